<script lang="ts">
  /** What a detector listens to: the source, its trim, and what a mute of the source does. */
  import { api, type Key, type KeyGroup, type KeySource, type Step, type Strip } from '../api/client';
  import { sameSource } from '../map/links';
  import { everyStep } from './tree';
  import { setKey, setSource } from '../state/routes';
  import { workspace } from '../state/workspace.svelte';
  import KeyPicker from './KeyPicker.svelte';
  import Rule from './Rule.svelte';

  let { step, strip }: { step: Step; strip: Strip } = $props();
  let groups = $state.raw<KeyGroup[]>([]);
  let open = $state(false);
  /** The strip by its name says the same as no strip. */
  const keyOf = (key: Key): Partial<Key> => (key.strip_id === strip.id ? { ...key, strip_id: null } : key);
  const isChosen = (source: KeySource) => Boolean(step.key && sameSource(source.key, keyOf(step.key)));
  const group = $derived(groups.find((each) => each.sources.some(isChosen)) ?? null);
  const chosen = $derived(group?.sources.find(isChosen) ?? null);
  /** Without a key the step does nothing, and says so at once. */
  const needed = $derived(Boolean(workspace.described.processor(step.kind)?.needs_key));
  const none = $derived(needed ? 'none' : 'internal');
  const silent = $derived(workspace.routing?.silent_keys[step.id]);
  const heard = $derived(workspace.listening.playing ? workspace.listening.header?.keys[step.id] : undefined);
  const shown = $derived(
    chosen && group ? `${group.own ? 'this path' : group.name}: ${chosen.label}` : step.key ? '...' : none,
  );
  const keyedTo = ({ key }: Step) => (key ? [key.strip_id, key.step_id, key.lane_id, key.at].join() : '');
  /** What of the session decides what there is to listen to: not the values, which a drag moves. */
  const asked = $derived(
    [
      step.id,
      ...(workspace.session?.strips ?? []).flatMap(({ id, name, output, sends, path }) => [
        id,
        name,
        output,
        ...sends.map((send) => send.target),
        ...[...everyStep(path.steps)].flatMap((each) => [
          each.id,
          keyedTo(each),
          ...(each.lanes ?? []).flatMap((lane) => [lane.name, lane.output]),
        ]),
      ]),
    ].join(' '),
  );

  $effect(() => {
    void asked;
    const id = workspace.version?.id;
    if (id !== undefined && (step.key || open))
      void workspace.attempt(async () => {
        groups = await api.keySources(id, step.id);
      }, true);
  });
</script>

<div class="row" title="What the detector listens to. The sound itself is not changed by it.">
  <span>Key</span>
  <button
    class="figure source"
    class:outside={step.key}
    aria-label="Key: {shown}"
    aria-haspopup="dialog"
    data-setting="key"
    onclick={() => (open = true)}>{shown}</button
  >
</div>
{#if open && groups.length}<KeyPicker
    {groups}
    {chosen}
    {none}
    take={(key) => setSource(workspace, step, key)}
    close={() => (open = false)}
  />{/if}
{#if needed && !step.key}<p class="silent" data-figure="no key">
    Choose a key: without one this step does nothing.
  </p>{/if}
{#if step.key}
  <Rule address={{ of: 'key', id: step.id, name: 'trim_db' }} mark="key_trim_db" value={step.key.trim_db} />
  <label class="row" title="Otherwise the key goes on though its source is muted.">
    <span>Follow source mute</span>
    <input
      type="checkbox"
      checked={step.key.mutes}
      onchange={(event) => setKey(workspace, step, { mutes: event.currentTarget.checked })}
    />
  </label>
  {#if silent}<p class="silent">{silent}</p>
  {:else}<p class="soft figure">
      {heard !== undefined && heard > -120 ? `level ${heard.toFixed(1)} dB` : 'silent now'}
    </p>{/if}
{/if}

<style>
  .row {
    display: grid;
    grid-template-columns: auto minmax(0, 1fr);
    column-gap: 8px;
    align-items: baseline;
    height: 2.0625rem;
  }
  .source {
    border: 0;
    border-bottom: 1px solid var(--ink-soft);
    border-radius: 0;
    background: none;
    height: 1.5rem;
    padding: 0;
    min-width: 0;
    text-align: right;
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .outside {
    border-bottom: 2px solid var(--key);
  }
  input {
    justify-self: end;
  }
  p {
    margin: 0;
    line-height: 1.0625rem;
    font-size: 0.75rem;
  }
  .silent {
    border-left: 3px solid var(--key);
    padding-left: 6px;
  }
</style>
