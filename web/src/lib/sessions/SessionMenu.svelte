<script lang="ts">
  /** Sessions: open, new, rename, duplicate, delete and take that back. */
  import { api, type SessionRow } from '../api/client';
  import { setOf } from '../state/moves';
  import { workspace } from '../state/workspace.svelte';

  let { close }: { close: () => void } = $props();
  let rows = $state.raw<SessionRow[]>([]);
  let fresh = $state('');
  let name = $state(workspace.session?.name ?? '');
  let tempo = $state(String(workspace.session?.tempo_bpm ?? 120));

  const load = () => workspace.attempt(async () => (rows = await api.sessions()));
  void load();

  async function open(id: number): Promise<void> {
    await workspace.attempt(() => workspace.open(id));
    close();
  }
  async function create(): Promise<void> {
    await workspace.attempt(async () => open((await api.create(fresh.trim() || 'New session')).id));
  }
  async function duplicate(id: number): Promise<void> {
    await workspace.attempt(() => api.duplicate(id));
    await load();
  }
  async function remove(row: SessionRow): Promise<void> {
    await workspace.attempt(() => api.remove(row.id));
    await load();
    workspace.note(`${row.name} was deleted.`, 'note', {
      label: 'Take it back',
      run: () => void workspace.attempt(() => api.restore(row.id)).then(load),
    });
    if (row.id === workspace.version?.id) {
      workspace.close();
      const other = rows.find((candidate) => !candidate.deleted);
      if (other) await workspace.attempt(() => workspace.open(other.id));
    }
  }
  async function restore(id: number): Promise<void> {
    await workspace.attempt(() => api.restore(id));
    await load();
  }
  async function rename(): Promise<void> {
    const wanted = name.trim();
    if (wanted && wanted !== workspace.session?.name)
      await workspace.edit(setOf('session', null, { name: wanted }));
    await load();
  }
  async function setTempo(): Promise<void> {
    const bpm = Number(tempo.replace(',', '.'));
    if (Number.isFinite(bpm) && bpm !== workspace.session?.tempo_bpm)
      await workspace.edit(setOf('session', null, { tempo_bpm: bpm }));
    tempo = String(workspace.session?.tempo_bpm ?? bpm);
  }
</script>

<div class="menu" role="dialog" aria-label="Sessions">
  {#if workspace.session}
    <div class="line">
      <label
        >Name <input
          bind:value={name}
          maxlength="120"
          onchange={rename}
          aria-label="Name of this session"
        /></label
      >
      <label
        >Tempo <input class="figure short" bind:value={tempo} onchange={setTempo} aria-label="Tempo, bpm" /> bpm</label
      >
    </div>
  {/if}
  <ul>
    {#each rows as row (row.id)}
      <li class:open={row.id === workspace.version?.id}>
        {#if row.deleted}
          <span class="soft gone">{row.name} (deleted)</span>
          <button class="button" onclick={() => restore(row.id)}>Take back</button>
        {:else}
          <button class="name" onclick={() => open(row.id)}>{row.name}</button>
          <button class="button" onclick={() => duplicate(row.id)} aria-label="Duplicate {row.name}"
            >Duplicate</button
          >
          <button class="button" onclick={() => remove(row)} aria-label="Delete {row.name}">Delete</button>
        {/if}
      </li>
    {/each}
  </ul>
  <form
    class="line"
    onsubmit={(event) => {
      event.preventDefault();
      void create();
    }}
  >
    <input
      placeholder="Name of a new session"
      aria-label="Name of a new session"
      bind:value={fresh}
      maxlength="120"
    />
    <button class="button">New session</button>
  </form>
</div>
<div class="veil" role="presentation" onpointerdown={close}></div>

<style>
  .menu {
    position: fixed;
    top: 40px;
    left: 8px;
    width: 420px;
    max-width: 95vw;
    max-height: 80vh;
    overflow: auto;
    z-index: 20;
    background: var(--plate);
    border: 1px solid var(--ink-soft);
    padding: 12px;
  }
  .veil {
    position: fixed;
    inset: 0;
    z-index: 10;
  }
  .line {
    display: flex;
    gap: 12px;
    align-items: center;
  }
  input {
    height: 26px;
    border: 1px solid var(--line);
    background: var(--ground);
    padding: 0 6px;
    flex: 1;
    min-width: 0;
  }
  .short {
    width: 56px;
  }
  ul {
    list-style: none;
    margin: 12px 0;
    padding: 0;
  }
  li {
    display: flex;
    gap: 4px;
    align-items: center;
    height: 32px;
    border-bottom: 1px solid var(--line);
  }
  .name,
  .gone {
    flex: 1;
    text-align: left;
    padding: 0 4px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .open .name {
    font-weight: 650;
  }
</style>
