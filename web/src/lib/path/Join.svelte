<script lang="ts">
  /** Where the lanes of a split meet: the blend's rule, or what their sum comes to. */
  import type { Setting, Step } from '../api/client';
  import { format } from '../controls/value';
  import { splitName } from '../state/splits';
  import { workspace } from '../state/workspace.svelte';
  import Rule from './Rule.svelte';

  let { owner }: { owner: Step } = $props();
  /** Of a sum that cancels. */
  const SILENT_DB = -120;
  const position = $derived(
    workspace.described
      .processor('split')
      ?.settings.find((setting) => setting.name === 'position') as Setting,
  );
  const blended = $derived(
    owner.settings['by'] === 'copies' && owner.settings['blend'] === true && owner.lanes?.length === 2,
  );
  const sum = $derived.by(() => {
    if (owner.settings['by'] !== 'copies') return 'sum, unity';
    const db = workspace.version?.sums[owner.id];
    return db === undefined ? '' : db > SILENT_DB ? format(db, 'dB') : 'cancels';
  });
  const match = $derived.by(() => {
    if (owner.settings['law'] !== 'steady') return `Law: ${String(owner.settings['law'])}`;
    if (!owner.match) return 'Constant loudness: the match is being measured';
    return owner.match.refused ?? `Constant loudness: wet matched by ${format(owner.match.matched_db, 'dB')}`;
  });
</script>

<div class="join" title={blended ? match : ''}>
  {#if blended && position}
    <Rule
      address={{ of: 'step', id: owner.id, name: 'position' }}
      setting={position}
      mark="blend"
      of={splitName(owner)}
      value={owner.settings['position']!}
    />
  {:else}
    <span>Sum</span><span class="figure soft">{sum}</span>
  {/if}
</div>

<style>
  .join {
    height: 100%;
    display: grid;
    align-content: center;
    background: var(--ground);
    padding: 0 6px;
    line-height: 1rem;
    white-space: nowrap;
  }
  .join > .figure {
    font-size: 0.6875rem;
  }
</style>
