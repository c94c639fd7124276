<script lang="ts">
  /** Trims that bring the chosen tracks to one working level before their paths. */
  import { chosenStrips, stageGain } from '../state/strips';
  import { workspace } from '../state/workspace.svelte';
  import Dialog from './Dialog.svelte';

  let { close }: { close: () => void } = $props();
  const LEVELS = {
    rms: { label: 'RMS while active', target: -18, unit: 'dBFS' },
    'short-term': { label: 'Loudness, short-term max', target: -18, unit: 'LUFS' },
    peak: { label: 'Sample peak', target: -6, unit: 'dBFS' },
  } as const;
  type Level = keyof typeof LEVELS;
  let level = $state<Level>('rms');
  let target = $state('-18');
  let running = $state(false);
  let which = $state<'chosen' | 'all'>(workspace.selection.stripIds.length > 1 ? 'chosen' : 'all');
  const all = $derived((workspace.session?.strips ?? []).filter((strip) => strip.media_id !== null));
  const strips = $derived(
    which === 'all' ? all : chosenStrips(workspace).filter((strip) => strip.media_id !== null),
  );
  const wanted = $derived(Number(target.trim().replace(',', '.')));
  const valid = $derived(Number.isFinite(wanted) && wanted >= -40 && wanted <= 0);

  async function set(): Promise<void> {
    running = true;
    await stageGain(workspace, strips, level, wanted);
    close();
  }
</script>

<Dialog title="Gain staging" {close} width={26}>
  <p class="soft">
    Sets the trims, so that the tracks reach their paths at one level. -18 dBFS RMS while active is a usual
    working level.
  </p>
  <label
    ><span>Tracks</span>
    <select bind:value={which}>
      <option value="all">all {all.length} tracks</option>
      <option value="chosen">the chosen ones</option>
    </select></label
  >
  <label
    ><span>Measure</span>
    <select bind:value={level} onchange={() => (target = String(LEVELS[level].target))}>
      {#each Object.entries(LEVELS) as [name, { label }] (name)}<option value={name}>{label}</option>{/each}
    </select></label
  >
  <label
    ><span>Target</span>
    <span
      ><input class="figure" aria-label="Target" aria-invalid={!valid} bind:value={target} />
      {LEVELS[level].unit}</span
    ></label
  >
  <p class="wrong" role="status">{valid ? '' : 'The target is from -40 to 0.'}</p>
  <div class="line">
    <button class="button" onclick={close}>Cancel</button>
    <button class="button" disabled={!valid || !strips.length || running} onclick={set}
      >{running ? 'Measuring ...' : `Set ${strips.length} ${strips.length === 1 ? 'trim' : 'trims'}`}</button
    >
  </div>
</Dialog>

<style>
  label {
    display: grid;
    grid-template-columns: 6.25rem minmax(0, 1fr);
    align-items: center;
    min-height: 2rem;
  }
  input,
  select {
    height: 1.625rem;
    padding: 0 6px;
    border: 1px solid var(--edge);
    background: var(--ground);
  }
  input {
    width: 72px;
  }
  .line {
    display: flex;
    justify-content: flex-end;
    gap: 8px;
  }
  .wrong {
    min-height: 1.25rem;
    margin: 4px 0;
    color: var(--taken);
  }
</style>
