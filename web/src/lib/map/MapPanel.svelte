<script lang="ts">
  /** What is chosen on the map: a line with what can be set of it, or a strip with all its lines. */
  import Slider from '../controls/Slider.svelte';
  import { setKey, setSend, setSource } from '../state/routes';
  import { workspace } from '../state/workspace.svelte';
  import { links, type Link } from './links';

  interface Props {
    chosen: Link | null;
    choose: (link: string | null) => void;
    remove: (link: Link) => void;
    open: (strip: string, step?: string) => void;
    connect: (strip: string) => void;
  }
  let { chosen, choose, remove, open, connect }: Props = $props();

  const strips = $derived(workspace.session?.strips ?? []);
  const strip = $derived(workspace.selection.strip);
  const routing = $derived(workspace.routing);
  const own = $derived(links(strips).filter((link) => link.from === strip?.id || link.to === strip?.id));
  const named = (id: string) => workspace.stripNamed(id);
  const detector = (link: Link) =>
    link.kind === 'key' ? (workspace.described.processor(link.step.kind)?.label ?? '').toLowerCase() : '';
  const WORDS = { output: 'Output', lane: 'Lane', send: 'Send', key: 'Key' };
  function says(link: Link): string {
    const out = link.from === strip?.id;
    const other = named(out ? link.to : link.from);
    if (link.kind === 'key') return out ? `key of the ${detector(link)} on ${other}` : `${other} keys the ${detector(link)}`;
    if (link.kind === 'send') return out ? `sends to ${other}` : `${other} sends`;
    if (link.kind === 'lane') return out ? `lane ${link.lane.name} to ${other}` : `lane ${link.lane.name} of ${other}`;
    return out ? `feeds ${other}` : `${other} feeds it`;
  } // prettier-ignore
  const silent = $derived(
    chosen?.kind === 'send'
      ? routing?.silent_sends[chosen.send.id]
      : chosen?.kind === 'key'
        ? routing?.silent_keys[chosen.step.id]
        : undefined,
  );
  const latency = $derived(strip ? routing?.strips[strip.id] : undefined);
</script>

<aside aria-label="What is chosen on the map">
  {#if chosen}
    <h2>{WORDS[chosen.kind]} <span class="soft">{named(chosen.from)} to {named(chosen.to)}</span></h2>
    {#if chosen.kind === 'send'}
      {@const { send } = chosen}
      {#key send.id}<Slider
          setting={workspace.described.setting('send', 'level_db')}
          mark="send_level_db"
          value={send.level_db}
          change={(value, gesture) => setSend(workspace, send, { level_db: Number(value) }, gesture)}
        />{/key}
      <label class="row">
        <span>Pre/post</span>
        <select
          class="figure"
          aria-label="Pre/post"
          value={send.pre ? 'pre' : 'post'}
          onchange={(event) => setSend(workspace, send, { pre: event.currentTarget.value === 'pre' })}
        >
          <option value="post">post-fader</option>
          <option value="pre">pre-fader</option>
        </select>
      </label>
      <label class="row">
        <span>Mute</span>
        <input
          type="checkbox"
          checked={send.mute}
          onchange={(event) => setSend(workspace, send, { mute: event.currentTarget.checked })}
        />
      </label>
    {:else if chosen.kind === 'key'}
      {@const { step, key } = chosen}
      <p class="soft">Key of the {detector(chosen)} on {named(chosen.to)}.</p>
      {#key step.id}<Slider
          setting={workspace.described.setting('key', 'trim_db')}
          mark="key_trim_db"
          value={key.trim_db}
          change={(value, gesture) => setKey(workspace, step, { trim_db: Number(value) }, gesture)}
        />{/key}
      <label class="row">
        <span>Point</span>
        <select
          class="figure"
          aria-label="Point"
          value={key.at}
          onchange={(event) =>
            setSource(workspace, step, {
              ...key,
              at: event.currentTarget.value === 'before' ? 'before' : 'after',
            })}
        >
          <option value="after">after {key.step_id || key.lane_id ? 'it' : 'the path'}</option>
          <option value="before">before {key.step_id || key.lane_id ? 'it' : 'the path'}</option>
        </select>
      </label>
      <label class="row">
        <span>Follow source mute</span>
        <input
          type="checkbox"
          checked={key.mutes}
          onchange={(event) => setKey(workspace, step, { mutes: event.currentTarget.checked })}
        />
      </label>
      <button class="button" onclick={() => open(chosen.to, step.id)}>Edit the {detector(chosen)}</button>
    {/if}
    {#if silent}<p class="silent" data-figure="silent">{silent}</p>{/if}
    <p class="acts">
      <button class="button" title="Remove (Del)" onclick={() => remove(chosen)}
        >Remove the {WORDS[chosen.kind].toLowerCase()}</button
      >
      <button class="button" onclick={() => choose(null)}>Close</button>
    </p>
  {:else if strip}
    <h2>{strip.name} <span class="soft">{strip.kind}</span></h2>
    {#key strip.id}<Slider
        setting={workspace.described.setting('strip', 'level_db')}
        value={strip.level_db}
        change={(value, gesture) => workspace.move('strip', strip.id, { level_db: value }, gesture)}
      />{/key}
    {#if latency?.silent}<p class="silent" data-figure="silent">{latency.silent}</p>{/if}
    {#if latency}
      <dl>
        <dt title="From the sources to here">Latency</dt>
        <dd class="figure" data-figure="latency">{latency.latency_ms.toFixed(1)} ms</dd>
        {#each latency.causes as cause (cause.step_id)}
          <dt class="soft">{cause.name}</dt>
          <dd class="figure soft">{cause.latency_ms.toFixed(1)} ms</dd>
        {/each}
      </dl>
    {/if}
    <h3 class="soft">Lines</h3>
    <ul>
      {#each own as link (link.id)}
        <li>
          <button class="link" onclick={() => choose(link.id)}>{says(link)}</button>
          {#if link.kind === 'send'}<span class="figure soft">{link.send.level_db.toFixed(1)}</span>{/if}
        </li>
      {:else}<li class="soft">None yet.</li>{/each}
    </ul>
    <p class="acts">
      <button class="button" title="Connect by the keyboard (K)" onclick={() => connect(strip.id)}
        >Connect ...</button
      >
      <button class="button" title="Enter, or double-click" onclick={() => open(strip.id)}
        >Open in Shape</button
      >
    </p>
    <p class="soft help">
      Drag the edge of a plate to another: an output, a send or a key. A line is chosen by a click and removed
      by Del. The wheel zooms, the ground drags.
    </p>
  {/if}
</aside>

<style>
  aside {
    height: 100%;
    overflow: auto;
    padding: 8px 12px;
  }
  h2 span {
    font-weight: 400;
  }
  h3 {
    font-weight: 500;
    border-bottom: 1px solid var(--line);
    margin-top: 12px;
  }
  .row {
    display: grid;
    grid-template-columns: 1fr auto;
    height: 2.0625rem;
    align-items: center;
  }
  select {
    background: none;
    border: 0;
    border-bottom: 1px solid var(--ink-soft);
  }
  option {
    background: var(--plate);
  }
  dl {
    display: grid;
    grid-template-columns: 1fr auto;
    margin: 8px 0;
  }
  dt,
  dd {
    margin: 0;
    line-height: 1.375rem;
    border-bottom: 1px solid var(--line);
  }
  dd {
    text-align: right;
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
  }
  li {
    display: flex;
    justify-content: space-between;
    min-height: 1.5rem;
  }
  .link {
    min-height: 1.5rem;
    border: 0;
    padding: 0;
    text-align: left;
    text-decoration: underline;
    text-decoration-color: var(--line);
  }
  .silent {
    margin: 6px 0;
    padding-left: 8px;
    border-left: 3px solid var(--key);
    font-size: 0.75rem;
    line-height: 1.0625rem;
  }
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: 8px;
    margin: 12px 0;
  }
  .help {
    font-size: 0.75rem;
    line-height: 1.0625rem;
  }
</style>
