<script lang="ts">
  /** The frame of every dialog: modal, closed by Escape or a press beside it; the focus comes in and goes back to where it was. */
  import { untrack, type Snippet } from 'svelte';
  import NoticeList from '../sessions/NoticeList.svelte';
  import { dialogs } from './open.svelte';

  interface Props {
    title: string;
    close: () => void;
    children: Snippet;
    /** In rem. */
    width?: number;
    side?: 'left' | 'middle' | 'right';
    /** Without a title line of its own, where the first control says what it is. */
    untitled?: boolean;
    /** Nothing of the page is seen behind it, and a press beside it does nothing. */
    cover?: boolean;
  }
  let {
    title,
    close,
    children,
    width = 28,
    side = 'middle',
    untitled = false,
    cover = false,
  }: Props = $props();

  function modal(dialog: HTMLDialogElement) {
    const before = document.activeElement;
    const cancel = (event: Event) => {
      event.preventDefault();
      close();
    };
    const press = (event: PointerEvent) => {
      if (event.target !== dialog || cover) return;
      const box = dialog.getBoundingClientRect();
      const inside =
        event.clientX >= box.left &&
        event.clientX <= box.right &&
        event.clientY >= box.top &&
        event.clientY <= box.bottom;
      if (!inside) close();
    };
    dialog.showModal();
    untrack(() => (dialogs.open += 1));
    dialog.querySelector<HTMLElement>('[data-first]')?.focus();
    dialog.addEventListener('cancel', cancel);
    dialog.addEventListener('pointerdown', press);
    return () => {
      dialog.close();
      untrack(() => (dialogs.open -= 1));
      if (before instanceof HTMLElement && before.isConnected) before.focus();
    };
  }
</script>

<dialog {@attach modal} aria-label={title} class={side} class:cover style:width="{width}rem">
  {#if !untitled}
    <div class="head">
      <h2>{title}</h2>
      <button class="button" onclick={close}>Close</button>
    </div>
  {/if}
  {@render children()}
  <div class="notices" aria-live="polite"><NoticeList /></div>
</dialog>

<style>
  dialog {
    white-space: normal;
    position: fixed;
    inset: 48px auto auto;
    margin: 0;
    max-width: 96vw;
    max-height: calc(100vh - 64px);
    overflow: auto;
    padding: 8px 16px 12px;
    color: var(--ink);
    background: var(--plate);
    border: 1px solid var(--ink-soft);
  }
  .left {
    left: 8px;
  }
  .right {
    right: 8px;
  }
  .middle {
    left: 0;
    right: 0;
    margin-inline: auto;
  }
  dialog::backdrop {
    background: transparent;
  }
  .cover::backdrop {
    background: var(--ground);
  }
  .notices:not(:empty) {
    margin-top: 8px;
  }
  .head {
    display: flex;
    justify-content: space-between;
    align-items: center;
    gap: 12px;
    margin-bottom: 4px;
  }
</style>
