<script lang="ts">
  /** The strip itself: trim, level, pan, what it feeds, what it sends, and why it is silent if it is. */
  import { api, type MediaFacts, type Strip } from '../api/client';
  import { clock } from '../draw/scale';
  import { addSend, setSend } from '../state/routes';
  import { printable, printStrips, replaceRecording, splitTrack } from '../state/strips';
  import { workspace } from '../state/workspace.svelte';
  import Rule from './Rule.svelte';
  import StartRule from './StartRule.svelte';

  let { strip }: { strip: Strip } = $props();
  const buses = $derived(
    (workspace.session?.strips ?? []).filter((other) => other.kind !== 'track' && other.id !== strip.id),
  );
  const free = $derived(
    buses.filter((bus) => bus.kind === 'bus' && !strip.sends.some((send) => send.target === bus.id)),
  );
  const routing = $derived(workspace.routing?.strips[strip.id]);

  // Derived, so that it is asked for once: an edit makes another strip of the same file.
  const mediaId = $derived(strip.media_id);
  let file = $state.raw<MediaFacts | null>(null);
  let picker = $state<HTMLInputElement | null>(null);
  $effect(() => {
    const id = mediaId;
    let asked = true;
    file = null;
    if (id !== null)
      void workspace.attempt(async () => {
        const facts = await api.media(id);
        if (asked) file = facts;
      }, true);
    return () => (asked = false);
  });
</script>

<div class="group">
  <h3 class="soft">Strip</h3>
  {#if strip.media_id !== null}{#key strip.id}<StartRule {strip} />{/key}{/if}
  {#each ['trim_db', 'level_db', 'pan'] as const as name (`${strip.id} ${name}`)}
    <Rule address={{ of: 'strip', id: strip.id, name }} value={strip[name]} />
  {/each}
</div>
<div class="group">
  <h3 class="soft">Feeds</h3>
  {#if strip.kind !== 'main'}
    <label class="row">
      <span>Output</span>
      <select
        class="figure"
        aria-label="Output"
        value={strip.output ?? ''}
        onchange={(event) =>
          workspace.edit({ op: 'set_output', strip_id: strip.id, output: event.currentTarget.value || null })}
      >
        <option value="">nothing</option>
        {#each buses as bus (bus.id)}<option value={bus.id}>{bus.name}</option>{/each}
      </select>
    </label>
  {/if}
  {#if routing?.silent}<p class="silent" data-figure="silent">{routing.silent}</p>{/if}
  {#if routing?.keys.length}<p class="soft">Key of {routing.keys.join(', ')}.</p>{/if}
  {#if file}
    <p class="soft figure" data-figure="file" title={file.name}>
      {file.format}, {file.rate_hz / 1000} kHz, {file.channels === 1 ? 'mono' : 'stereo'}, {clock(
        file.length_s,
      )}<br />peak {file.peak_dbfs.toFixed(1)} dBFS{file.loudness_lufs === null
        ? ''
        : `, ${file.loudness_lufs.toFixed(1)} LUFS`}
    </p>
    {#if file.channels === 2}<button
        class="button"
        data-act="split track"
        title="The left and the right side as a mono track each, panned to its side"
        onclick={() => splitTrack(workspace, strip)}>Split to two tracks</button
      >{/if}
  {/if}
  {#if strip.printed}
    <p class="soft" data-figure="printed">Printed: it plays what left its path, whose steps are bypassed.</p>
    <button
      class="button"
      data-act="unprint"
      title="The recording and the steps as they were before"
      onclick={() => workspace.edit({ op: 'unprint', strip_id: strip.id })}>Unprint</button
    >
  {:else if strip.media_id !== null}
    <div class="acts">
      <button
        class="button"
        data-act="print"
        disabled={!printable(strip)}
        title="Play what leaves the path, before level and pan, as a recording; the steps are kept, bypassed"
        onclick={() => printStrips(workspace, [strip])}>Print</button
      >
      <button
        class="button"
        data-act="replace"
        title="Another take, or a revised file: path, envelopes, slots and keys stay"
        onclick={() => picker?.click()}>Replace the file ...</button
      >
    </div>
    <input
      type="file"
      hidden
      aria-label="Another recording"
      accept=".wav,.flac,.aif,.aiff,.ogg,.opus,.mp3,.m4a,.rf64,audio/*"
      bind:this={picker}
      onchange={(event) => {
        const chosen = event.currentTarget.files?.[0];
        if (chosen) void replaceRecording(workspace, strip, chosen);
        event.currentTarget.value = '';
      }}
    />
  {/if}
</div>
{#if strip.kind !== 'main'}
  <div class="group">
    <h3 class="soft">Sends</h3>
    {#each strip.sends as send (send.id)}
      {@const bus = workspace.stripNamed(send.target)}
      <div class="send" title={workspace.routing?.silent_sends[send.id]}>
        <Rule
          address={{ of: 'send', id: send.id, name: 'level_db' }}
          setting={{
            ...workspace.described.setting('send', 'level_db'),
            label: workspace.routing?.silent_sends[send.id] ? `${bus} (silent)` : bus,
          }}
          of="send"
          mark="send_level_db {send.id}"
          value={send.level_db}
        />
        <button
          class="act wide"
          aria-pressed={send.pre}
          title="Pre- or post-fader"
          aria-label="Send to {bus} before the level"
          onclick={() => setSend(workspace, send, { pre: !send.pre })}>{send.pre ? 'pre' : 'post'}</button
        >
        <button
          class="act"
          class:on={send.mute}
          aria-pressed={send.mute}
          title="Mute"
          aria-label="Mute the send to {bus}"
          onclick={() => setSend(workspace, send, { mute: !send.mute })}>M</button
        >
        <button
          class="act"
          title="Remove"
          aria-label="Remove the send to {bus}"
          onclick={() => workspace.edit({ op: 'remove_send', send_id: send.id })}>x</button
        >
      </div>
    {/each}
    {#if free.length}
      <select
        class="figure add"
        aria-label="Send to"
        value=""
        onchange={(event) => {
          addSend(workspace, strip, event.currentTarget.value);
          event.currentTarget.value = '';
        }}
      >
        <option value="" disabled>send to ...</option>
        {#each free as bus (bus.id)}<option value={bus.id}>{bus.name}</option>{/each}
      </select>
    {:else if !strip.sends.length}<p class="soft">There is no bus yet: add one in the tree.</p>{/if}
  </div>
{/if}

<style>
  .group h3 {
    font-weight: 500;
    border-bottom: 1px solid var(--line);
    height: 1.375rem;
    margin-bottom: 2px;
  }
  .row {
    display: grid;
    grid-template-columns: 1fr auto;
    height: 2.0625rem;
    align-items: baseline;
  }
  .send {
    display: grid;
    grid-template-columns: minmax(5.625rem, 1fr) 2rem 16px 16px;
    column-gap: 6px;
    align-items: center;
  }
  .wide {
    width: 32px;
  }
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: 6px;
    margin-top: 6px;
  }
  select {
    background: none;
    border: 0;
    border-bottom: 1px solid var(--ink-soft);
  }
  .add {
    margin-top: 6px;
    max-width: 160px;
  }
  option {
    background: var(--plate);
  }
  p {
    margin: 4px 0;
    line-height: 1.0625rem;
  }
  .silent {
    border-left: 3px solid var(--key);
    padding-left: 8px;
  }
</style>
