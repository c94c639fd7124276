<script lang="ts">
  /** What a line that was drawn from one strip to another can be. */
  import type { Edit } from '../api/client';
  import type { Choice } from './links';

  interface Props {
    x: number;
    y: number;
    from: string;
    to: string;
    choices: Choice[];
    /** The edit that was chosen, or null where none was. */
    take: (edit: Edit | null) => void;
  }
  let { x, y, from, to, choices, take }: Props = $props();

  const first = (element: HTMLElement) => element.querySelector('button')?.focus();
  function keydown(event: KeyboardEvent & { currentTarget: HTMLElement }): void {
    event.stopPropagation();
    if (event.key === 'Escape') take(null);
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (!step) return;
    event.preventDefault();
    const items = [...event.currentTarget.querySelectorAll('button')];
    const at = items.indexOf(document.activeElement as HTMLButtonElement);
    items[(at + step + items.length) % items.length]?.focus();
  }
</script>

<div
  class="menu"
  role="menu"
  tabindex="-1"
  aria-label="Connect {from} to {to}"
  style:left="{x}px"
  style:top="{y}px"
  {@attach first}
  onkeydown={keydown}
>
  <p class="soft">{from} to {to}</p>
  {#each choices as choice (choice.label)}
    <button role="menuitem" onclick={() => take(choice.edit)}>{choice.label}</button>
  {/each}
</div>

<style>
  .menu {
    position: absolute;
    z-index: 5;
    min-width: 210px;
    background: var(--plate);
    border: 1px solid var(--ink-soft);
    padding: 6px 0;
  }
  .menu p {
    margin: 0;
    padding: 0 12px 4px;
  }
  .menu button {
    display: block;
    width: 100%;
    text-align: left;
    height: 1.625rem;
    padding: 0 12px;
    white-space: nowrap;
  }
  .menu button:hover,
  .menu button:focus-visible {
    background: var(--ground);
  }
</style>
