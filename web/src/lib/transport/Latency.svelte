<script lang="ts">
  /** The latency of the main, the steps that add to it, and the choice of low latency for playing along. */
  import Dialog from '../dialogs/Dialog.svelte';
  import { workspace } from '../state/workspace.svelte';

  let open = $state(false);
  const routing = $derived(workspace.routing);
  const low = $derived(workspace.session?.low_latency ?? false);
  const causes = $derived(routing?.strips['main']?.causes ?? []);
  const changed = $derived(Object.keys(routing?.low_latency_changes ?? {}).length);
</script>

{#if routing}
  <span class="latency">
    <button
      class="figure"
      class:low
      aria-expanded={open}
      aria-label="Latency {routing.latency_ms.toFixed(1)} ms"
      title="Latency of the main, the steps that add to it, and low latency"
      onclick={() => (open = !open)}
      >{low ? 'Low latency' : 'Latency'} {routing.latency_ms.toFixed(1)} ms</button
    >
    {#if open}
      <Dialog title="Latency" close={() => (open = false)} width={22} side="right">
        <p>Latency of the main: {routing.latency_ms.toFixed(1)} ms</p>
        <dl>
          {#each causes as cause (cause.step_id)}
            <dt>
              <button
                class="link"
                onclick={() => {
                  workspace.selection.choose(cause.strip_id, cause.step_id);
                  open = false;
                }}>{cause.name}</button
              >
            </dt>
            <dd class="figure">{cause.latency_ms.toFixed(1)} ms</dd>
          {:else}<dt class="soft">No step adds latency.</dt>
            <dd></dd>{/each}
        </dl>
        <label>
          <input
            type="checkbox"
            checked={low}
            onchange={(event) =>
              workspace.move('session', null, { low_latency: event.currentTarget.checked })}
          />
          Low latency, for playing along
        </label>
        <p class="soft">
          {#if low}
            Lookahead and oversampling are off in {changed}
            {changed === 1 ? 'step' : 'steps'}: fast peaks pass, clipping folds back as aliasing. An export
            has them all.
          {:else}
            It would be {routing.low_latency_ms.toFixed(1)} ms: lookahead and oversampling off in {changed}
            {changed === 1 ? 'step' : 'steps'}, only for listening. The buffer of the sound card and of this
            page comes on top.
          {/if}
        </p>
      </Dialog>
    {/if}
  </span>
{/if}

<style>
  .latency {
    flex: none;
  }
  .latency > button {
    height: 1.625rem;
    padding: 0 6px;
    color: var(--ink-soft);
  }
  .low {
    color: var(--key) !important;
  }
  dl {
    display: grid;
    grid-template-columns: 1fr auto;
    margin: 8px 0;
  }
  dt,
  dd {
    margin: 0;
    line-height: 1.5rem;
    border-bottom: 1px solid var(--line);
  }
  .link {
    border: 0;
    padding: 0;
    text-decoration: underline;
    text-decoration-color: var(--line);
  }
  p {
    margin: 6px 0 0;
    line-height: 1.0625rem;
  }
</style>
