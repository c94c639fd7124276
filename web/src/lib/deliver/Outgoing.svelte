<script lang="ts">
  /** Export: strips, how much of them, names, tags; and the button that sends it. */
  import Segments from '../controls/Segments.svelte';
  import { roughText } from '../draw/time-left';
  import { bytesText } from '../number';
  import { delivery } from '../state/delivery.svelte';
  import { workspace } from '../state/workspace.svelte';

  const setup = $derived(delivery.setup!);
  const strips = $derived(workspace.session?.strips ?? []);
  const groups = $derived(
    (
      [
        ['Main', strips.filter((strip) => strip.kind === 'main')],
        ['Buses', strips.filter((strip) => strip.kind === 'bus')],
        ['Tracks', strips.filter((strip) => strip.kind === 'track')],
      ] as const
    ).filter(([, value]) => value.length),
  );
  const count = $derived(delivery.names?.names.length ?? 0);
  const sum = (values: number[]) => values.reduce((total, value) => total + value, 0);
  let free = $state(false);
  let freeName = $state('');
  let freeText = $state('');
  let wrong = $state<string | null>(null);

  function choose(ids: string[], on: boolean): void {
    const rest = delivery.stripIds.filter((id) => !ids.includes(id));
    const next = on ? [...rest, ...ids] : rest;
    // In the order of the session; the last one stays, as something is to go out.
    const ordered = strips.filter((strip) => next.includes(strip.id)).map((strip) => strip.id);
    if (ordered.length) delivery.set({ strip_ids: ordered });
  }
  const tag = (name: 'title' | 'artist' | 'date', value: string) =>
    delivery.set({ tags: { ...setup.tags, [name]: value.trim() } });
  function addTag(): void {
    wrong = /^[A-Za-z][A-Za-z0-9 _-]*$/.test(freeName.trim())
      ? null
      : 'A tag begins with a letter and has letters, digits, spaces, - and _.';
    if (wrong) return;
    delivery.set({ tags: { ...setup.tags, free: { ...setup.tags.free, [freeName.trim()]: freeText } } });
    freeName = freeText = '';
  }
  const dropTag = (name: string) =>
    delivery.set({
      tags: {
        ...setup.tags,
        free: Object.fromEntries(Object.entries(setup.tags.free).filter(([tag]) => tag !== name)),
      },
    });
</script>

<section class="out" aria-label="Export">
  <h2>Export</h2>
  {#each groups as [name, strips] (name)}
    {@const ids = strips.map((strip) => strip.id)}
    {@const on = ids.filter((id) => delivery.stripIds.includes(id)).length}
    <div class="group" role="group" aria-label={name}>
      {#if strips.length > 1}
        <span class="row soft"
          >{name}<span class="space"></span><button
            class="button"
            aria-label="{on === ids.length ? 'No' : 'All'} {name.toLowerCase()}"
            onclick={() => choose(ids, on < ids.length)}>{on === ids.length ? 'None' : 'All'}</button
          ></span
        >
      {/if}
      <div class="strips">
        {#each strips as strip (strip.id)}
          <label title={strip.name}
            ><input
              type="checkbox"
              checked={delivery.stripIds.includes(strip.id)}
              onchange={(event) => {
                choose([strip.id], event.currentTarget.checked);
                event.currentTarget.checked = delivery.stripIds.includes(strip.id);
              }}
            />{strip.name}</label
          >
        {/each}
      </div>
    </div>
  {/each}
  <div class="row">
    <Segments
      label="Length"
      options={[
        ['whole', 'Whole', 'The whole song'],
        ['passage', 'Passage', `The passage: ${workspace.listening.passage.name}`],
        ['sections', 'Sections', 'Each section as a file of its own'],
        ['whole and sections', 'Both', 'The whole song, and each section as a file of its own'],
      ]}
      value={setup.extent}
      change={(extent) => delivery.set({ extent })}
    />
  </div>
  <label
    class="row"
    title="Echoes and rooms at the song's end go on until they are below -90 dBFS, for 30 s at most"
    ><input
      type="checkbox"
      checked={setup.tail}
      onchange={(event) => delivery.set({ tail: event.currentTarget.checked })}
    /> Include tail</label
  >
  <label class="field"
    ><span class="soft">File names</span>
    <input
      value={setup.pattern}
      maxlength="200"
      aria-label="File names"
      title={Object.entries(delivery.options?.fields ?? {})
        .map(([name, what]) => `{${name}}: ${what}`)
        .join('\n')}
      onchange={(event) =>
        delivery.set({ pattern: event.currentTarget.value.trim() || '{session} - {strip}' })}
    /></label
  >
  <p class="fields soft">
    {#each Object.entries(delivery.options?.fields ?? {}) as [name, what] (name)}
      <button
        class="insert figure"
        title={what}
        onclick={() => delivery.set({ pattern: `${setup.pattern} {${name}}` })}>{`{${name}}`}</button
      >
    {/each}
  </p>
  <ul class="names" aria-label="Preview of the names">
    {#each delivery.names?.names ?? [] as name, number (name)}<li title={name}>
        <span>{name}</span><span class="soft figure">{bytesText(delivery.names?.bytes[number] ?? 0)}</span>
      </li>{/each}
  </ul>
  {#if count}
    <p class="soft note" data-figure="expected">
      About {bytesText(sum(delivery.names?.bytes ?? []))}{delivery.expected_s === null
        ? ''
        : `, ${roughText(delivery.expected_s)}`}
    </p>
  {/if}
  {#if delivery.names?.muted.length}
    <p class="soft note" data-figure="muted">
      Muted, so in no file: {delivery.names.muted.join(', ')}
    </p>
  {/if}
  {#if delivery.names?.problem}<p class="wrong" role="status">{delivery.names.problem}</p>{/if}
  <div class="row send">
    <button
      class="button strong"
      data-act="deliver"
      disabled={!count || Boolean(delivery.names?.problem)}
      onclick={() => delivery.deliver()}>Deliver {count === 1 ? 'one file' : `${count} files`}</button
    >
    <label title="Figures, checksums, the main's path and contrast, as HTML, JSON and CSV"
      ><input type="checkbox" bind:checked={delivery.report} /> with a report</label
    >
  </div>
  <details>
    <summary>Tags and origin</summary>
    {#each ['title', 'artist', 'date'] as const as name (name)}
      <label class="field"
        ><span class="soft">{name[0]!.toUpperCase() + name.slice(1)}</span>
        <input
          value={setup.tags[name]}
          maxlength="400"
          onchange={(event) => tag(name, event.currentTarget.value)}
        /></label
      >
    {/each}
    {#each Object.entries(setup.tags.free) as [name, text] (name)}
      <p class="row">
        <span class="soft">{name}</span> <span class="text">{text}</span><span class="space"></span>
        <button class="button" aria-label="Remove the tag {name}" onclick={() => dropTag(name)}>Remove</button
        >
      </p>
    {/each}
    {#if free}
      <p class="row">
        <input class="short" aria-label="Name of the tag" placeholder="Name" bind:value={freeName} />
        <input aria-label="Text of the tag" placeholder="Text" bind:value={freeText} />
        <button class="button" onclick={addTag}>Add</button>
      </p>
      {#if wrong}<p class="wrong">{wrong}</p>{/if}
    {:else}<button class="button" onclick={() => (free = true)}>Another tag ...</button>{/if}
    <p class="soft note">Broadcast WAV files also say:</p>
    <label class="field"
      ><span class="soft">Originator</span>
      <input
        value={setup.origin.originator}
        maxlength="32"
        onchange={(event) =>
          delivery.set({ origin: { ...setup.origin, originator: event.currentTarget.value.trim() } })}
      /></label
    >
    <label class="field"
      ><span class="soft">Description</span>
      <input
        value={setup.origin.description}
        maxlength="256"
        onchange={(event) =>
          delivery.set({ origin: { ...setup.origin, description: event.currentTarget.value.trim() } })}
      /></label
    >
    <p class="soft note">and their loudness, which is measured.</p>
  </details>
  <p class="soft note">Drop files here to put them through the path of a strip.</p>
</section>

<style>
  .out {
    display: flex;
    flex-direction: column;
    gap: 4px;
    padding: 8px 12px;
    min-width: 0;
  }
  .row {
    display: flex;
    align-items: center;
    gap: 4px;
    min-height: 1.75rem;
    margin: 0;
  }
  .group {
    border-top: 1px solid var(--line);
  }
  .strips {
    display: grid;
    grid-template-columns: 1fr 1fr;
  }
  .strips label {
    display: flex;
    align-items: center;
    min-width: 0;
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .field {
    display: grid;
    grid-template-columns: 76px minmax(0, 1fr);
    align-items: center;
    min-height: 1.875rem;
  }
  input:not([type='checkbox']) {
    height: 1.625rem;
    min-width: 0;
    border: 1px solid var(--edge);
    background: var(--plate);
    padding: 0 6px;
  }
  .short {
    width: 84px;
  }
  .fields {
    margin: 0;
    display: flex;
    flex-wrap: wrap;
    gap: 0 4px;
  }
  .insert {
    padding: 0 2px;
    min-height: 1.5rem;
    color: var(--ink-soft);
    text-decoration: underline;
    text-decoration-color: var(--line);
  }
  .names {
    list-style: none;
    margin: 0;
    padding: 4px 6px;
    border: 1px solid var(--line);
    background: var(--plate);
    max-height: 112px;
    overflow: auto;
  }
  .names li {
    display: flex;
    gap: 8px;
    white-space: nowrap;
  }
  .names li span:first-child {
    flex: 1;
    min-width: 0;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .text {
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .space {
    flex: 1;
  }
  .strong {
    font-weight: 650;
  }
  .note,
  .wrong {
    margin: 0;
    font-size: 0.75rem;
  }
  .wrong {
    color: var(--taken);
  }
  summary {
    cursor: pointer;
    min-height: 1.5rem;
  }
</style>
