<script lang="ts">
  /** What a linked step is tied to, and how; or, with several strips chosen, the way to tie it. */
  import type { Processor, Step } from '../api/client';
  import Segments from '../controls/Segments.svelte';
  import { linkSteps } from '../state/steps';
  import { alsoChosen, linkOf } from '../state/together';
  import { workspace } from '../state/workspace.svelte';

  let { step, processor }: { step: Step; processor: Processor } = $props();

  const WAYS = [
    ['relative', 'By as much', 'All move by as much, and stop where the first comes to its limit'],
    ['same', 'Same value', 'All take the value that one is given'],
  ] as const;

  const link = $derived(linkOf(workspace.session?.links, step));
  const also = $derived(alsoChosen(workspace.selection));
  const others = $derived(
    (workspace.session?.strips ?? []).filter((strip) =>
      strip.path.steps.some((other) => other.id !== step.id && link?.step_ids.includes(other.id)),
    ),
  );
  const settings = $derived(processor.settings.filter((setting) => !setting.analysed));
  const tied = $derived(link?.settings ?? [...settings.map((setting) => setting.name), 'bypass']);

  function change(relative: boolean, settings: string[] | null): void {
    if (link) void workspace.edit({ op: 'link_steps', step_ids: link.step_ids, relative, settings });
  }
  function tie(name: string, on: boolean): void {
    const next = on ? [...tied, name] : tied.filter((other) => other !== name);
    change(link!.relative ?? true, next.length === settings.length + 1 ? null : next);
  }
  const unlink = (step_ids: string[]) => void workspace.edit({ op: 'unlink_steps', step_ids });
</script>

{#if link}
  <div class="links" role="group" aria-label="Linked steps">
    <span
      >Linked with {others.length
        ? others.map((strip) => strip.name).join(', ')
        : `${link.step_ids.length - 1} more`}</span
    >
    <Segments
      label="How they move"
      options={WAYS}
      value={link.relative ? 'relative' : 'same'}
      change={(way) => change(way === 'relative', link.settings ?? null)}
    />
    <details>
      <summary class="button"
        >{link.settings ? `${tied.length} of ${settings.length + 1} settings` : 'All settings'}</summary
      >
      <div class="choices">
        {#each [...settings, { name: 'bypass', label: 'Bypass' }] as setting (setting.name)}
          <label
            ><input
              type="checkbox"
              checked={tied.includes(setting.name)}
              disabled={tied.length === 1 && tied.includes(setting.name)}
              onchange={(event) => tie(setting.name, event.currentTarget.checked)}
            />{setting.label}</label
          >
        {/each}
      </div>
    </details>
    <button class="button" onclick={() => unlink([step.id])}>Unlink</button>
    {#if link.step_ids.length > 2}<button class="button" onclick={() => unlink(link.step_ids)}
        >Unlink all</button
      >{/if}
  </div>
{:else if also.length}
  <div class="links" role="group" aria-label="Linked steps">
    <button
      class="button"
      data-act="link"
      title="Tie this step to what stands for it on the other chosen strips, also when only one is chosen later"
      onclick={() => linkSteps(workspace, [step], also)}>Link on {also.length + 1} strips</button
    >
  </div>
{/if}

<style>
  .links {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 4px;
    padding-bottom: 4px;
  }
  span {
    margin-right: 8px;
  }
  details {
    position: relative;
  }
  summary {
    padding: 0 8px;
    list-style: none;
    cursor: pointer;
  }
  .choices {
    position: absolute;
    z-index: 3;
    display: grid;
    grid-template-columns: repeat(2, max-content);
    gap: 2px 16px;
    max-height: 18rem;
    overflow: auto;
    padding: 8px;
    border: 1px solid var(--line);
    background: var(--plate);
  }
  label {
    display: flex;
    gap: 6px;
    align-items: center;
  }
</style>
