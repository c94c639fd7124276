<script lang="ts">
  /** A searchable list of the processors. */
  import { workspace } from '../state/workspace.svelte';

  let { close }: { close: () => void } = $props();
  let search = $state('');
  let at = $state(0);
  const found = $derived(
    workspace.processors.filter((p) =>
      `${p.label} ${p.summary}`.toLowerCase().includes(search.trim().toLowerCase()),
    ),
  );

  function choose(kind: string | undefined): void {
    if (!kind) return;
    close();
    void workspace.addStep(kind);
  }
  function keys(event: KeyboardEvent): void {
    event.stopPropagation();
    if (event.key === 'Escape') close();
    else if (event.key === 'Enter') choose(found[at]?.kind);
    else if (event.key === 'ArrowDown') at = Math.min(at + 1, found.length - 1);
    else if (event.key === 'ArrowUp') at = Math.max(at - 1, 0);
    else return;
    event.preventDefault();
  }
  const focus = (field: HTMLInputElement) => field.focus();
</script>

<div class="menu" role="dialog" aria-label="Add a step">
  <input
    placeholder="Search"
    aria-label="Search the steps"
    bind:value={search}
    oninput={() => (at = 0)}
    onkeydown={keys}
    {@attach focus}
  />
  <ul>
    {#each found as processor, index (processor.kind)}
      <li>
        <button class:at={index === at} onclick={() => choose(processor.kind)}>
          <b>{processor.label}</b><span class="soft">{processor.summary}</span>
        </button>
      </li>
    {:else}
      <li class="soft none">Nothing is called that.</li>
    {/each}
  </ul>
</div>
<div class="veil" role="presentation" onpointerdown={close}></div>

<style>
  .menu {
    position: fixed;
    top: 196px;
    left: 50%;
    margin-left: -170px;
    width: 340px;
    max-width: 90vw;
    z-index: 20;
    background: var(--plate);
    border: 1px solid var(--ink-soft);
    padding: 8px;
  }
  .veil {
    position: fixed;
    inset: 0;
    z-index: 10;
  }
  input {
    width: 100%;
    height: 28px;
    border: 1px solid var(--line);
    background: var(--ground);
    padding: 0 8px;
  }
  ul {
    list-style: none;
    margin: 8px 0 0;
    padding: 0;
  }
  li button {
    display: flex;
    flex-direction: column;
    width: 100%;
    text-align: left;
    padding: 4px 8px;
    border: 0;
  }
  .at,
  li button:hover {
    background: var(--ground);
  }
  span {
    font-size: 12px;
    line-height: 16px;
  }
  .none {
    padding: 4px 8px;
  }
</style>
