<script lang="ts">
  /** Starting points and what users keep of their own: taken, kept, renamed, deleted, exported, imported. */
  import Dialog from '../dialogs/Dialog.svelte';
  import type { Edit, Preset } from '../api/client';
  import { format } from '../controls/value';
  import { presets } from '../state/presets.svelte';
  import { Rest } from '../state/rest';
  import { trying } from '../state/trying.svelte';
  import { workspace } from '../state/workspace.svelte';

  /** What an edit becomes on this passage, and which settings were found in words. */
  type Found = { edit: Edit; text: string };
  interface Start {
    name: string;
    listen: string;
    /** What it sets by a figure of the passage, in words, and the search for it. */
    aims?: string[];
    edit: () => Edit;
    find?: () => Promise<Found | null>;
  }
  interface Props {
    title: string;
    hint: string;
    starts: Start[];
    /** What one's own are called, and what stands there while there are none. */
    own: string;
    none: string;
    kind: string;
    placeholder: string;
    field: string;
    file: string;
    /** The edit that one of one's own would make. */
    edit: (preset: Preset) => Edit;
    /** Make an edit that was chosen. */
    take: (edit: Edit) => Promise<void>;
    /** What would be kept; null if there is nothing. */
    kept: () => Record<string, unknown> | null;
    /** Whether what would be kept has slots. */
    slotted?: boolean;
    close: () => void;
  }
  let {
    title,
    hint,
    starts,
    own,
    none,
    kind,
    placeholder,
    field,
    file,
    edit,
    take,
    kept,
    slotted = false,
    close,
  }: Props = $props();
  let name = $state('');
  let renaming = $state<number | null>(null);
  let picker = $state<HTMLInputElement | null>(null);
  let here = $state(false);
  let withSlots = $state(false);
  /** A name that is taken, until it is said whether it is to be replaced. */
  let asking = $state(false);
  let chosen = $state<number[]>([]);

  $effect(() => {
    void presets.load(kind);
  });

  async function save(): Promise<void> {
    const settings = kept();
    if (!name.trim() || !settings) return;
    if (!asking && presets.taken(name.trim(), here)) {
      asking = true;
      return;
    }
    await presets.save(name.trim(), settings, here, asking, withSlots && slotted);
    asking = false;
    name = '';
  }
  async function rename(preset: Preset, to: string): Promise<void> {
    renaming = null;
    if (to.trim() && to.trim() !== preset.name) await presets.rename(preset, to.trim());
  }
  const focus = (input: HTMLInputElement) => input.focus();

  /** Finding waits until the cursor has rested for so long. */
  const REST_MS = 120;
  /** What is tried sounds, at the loudness of what is there; only Enter, a double-click or *Use* keeps it. */
  let tried: { name: string; edit: Edit } | null = null;
  let started = false;
  /** What is being found for the passage, and what was. */
  let finding = $state.raw<{ name: string; found: Promise<Found | null> } | null>(null);
  let foundText = $state('');
  const rest = new Rest();
  $effect(() => () => {
    rest.stop();
    trying.end();
    if (started) workspace.listening.stop();
  });
  function hear(name: string, made: () => Edit, find?: Start['find']): void {
    tried = { name, edit: made() };
    finding = null;
    foundText = '';
    trying.hear(name, tried.edit, !find);
    if (find) rest.after(REST_MS, () => void search(name, find));
    else rest.stop();
    if (workspace.listening.playing) return;
    started = true;
    void workspace.listening.play(workspace.listening.passage.start_s);
  }
  /** Find what a starting point sets on this passage, and hear that. */
  async function search(name: string, find: NonNullable<Start['find']>): Promise<Found | null> {
    const here = (finding = { name, found: find() });
    const found = await here.found;
    if (finding !== here) return found;
    finding = null;
    if (tried?.name !== name) return found;
    foundText = found?.text ?? '';
    if (found) tried.edit = found.edit;
    trying.hear(name, tried.edit);
    return found;
  }
  function come(event: FocusEvent, name: string, made: () => Edit, find?: Start['find']): void {
    if ((event.currentTarget as HTMLElement).matches(':focus-visible')) hear(name, made, find);
  }
  async function keep(name: string, made: () => Edit, find?: Start['find']): Promise<void> {
    rest.stop();
    // What is still being found is waited for; what was not asked for yet is found now.
    const ready = !find || (tried?.name === name && foundText);
    const found = ready ? null : await (finding?.name === name ? finding.found : search(name, find));
    const edit = found?.edit ?? (tried?.name === name ? tried.edit : made());
    tried = null;
    trying.settle();
    await take(edit);
    close();
  }
  function use(): void {
    if (!tried) return;
    const { name, edit } = tried;
    void keep(name, () => edit, starts.find((start) => start.name === name)?.find);
  }
  /** Enter comes as a press without a pointer. */
  const press = (event: MouseEvent, name: string, made: () => Edit, find?: Start['find']) =>
    void (event.detail === 0 ? keep(name, made, find) : hear(name, made, find));
  /** Space plays and stops here as everywhere. */
  function space(event: KeyboardEvent): void {
    if (event.key !== ' ') return;
    event.preventDefault();
    started = false;
    if (event.type === 'keydown' && !event.repeat) workspace.listening.toggle();
  }
  const walking = (element: HTMLElement) => {
    element.addEventListener('keydown', walk);
    return () => element.removeEventListener('keydown', walk);
  };
  function walk(event: KeyboardEvent): void {
    const turn = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (!turn || event.target instanceof HTMLInputElement || event.target instanceof HTMLSelectElement)
      return;
    event.preventDefault();
    const all = [...(event.currentTarget as HTMLElement).querySelectorAll<HTMLElement>('[data-start]')];
    const at = all.indexOf(document.activeElement as HTMLElement);
    all[Math.min(Math.max(at + turn, 0), all.length - 1)]?.focus();
  }
</script>

<Dialog {title} {close} width={38}>
  <p class="soft">{hint}</p>
  <div class="tried">
    <span class="figure" role="status" data-figure="tried"
      >{trying.name === null
        ? ''
        : `${trying.name}: ${foundText ? `${foundText}; ` : ''}${trying.louder_db === null ? 'measuring' : `matched by ${format(-trying.louder_db, 'dB')} to what is there`}`}</span
    >
    <button
      class="button"
      disabled={trying.name === null}
      title="Keep what is tried (Enter, or a double-click)"
      onclick={use}>Use</button
    >
  </div>
  <div
    class="lists"
    role="group"
    aria-label="Choose with the arrow keys"
    tabindex="-1"
    data-first
    {@attach walking}
  >
    <ul>
      {#each starts as start (start.name)}
        <li>
          <button
            class="start"
            data-start={start.name}
            aria-current={trying.name === start.name ? 'true' : undefined}
            onfocus={(event) => come(event, start.name, start.edit, start.find)}
            onclick={(event) => press(event, start.name, start.edit, start.find)}
            ondblclick={() => keep(start.name, start.edit, start.find)}
            onkeydown={space}
            onkeyup={space}
          >
            <b>{start.name}</b><span class="soft">{start.listen}</span>
            {#if start.aims?.length}<span class="soft">Set on this passage: {start.aims.join(', ')}.</span
              >{/if}
          </button>
        </li>
      {/each}
    </ul>
    <h3>{own}</h3>
    <ul>
      {#each presets.list as preset (preset.id)}
        <li class="own">
          {#if renaming === preset.id}
            <input
              value={preset.name}
              aria-label="New name"
              {@attach focus}
              onkeydown={(event) => {
                event.stopPropagation();
                if (event.key === 'Enter') void rename(preset, event.currentTarget.value);
                if (event.key === 'Escape') renaming = null;
              }}
            />
          {:else}
            <input
              type="checkbox"
              aria-label="Choose {preset.name} for export"
              value={preset.id}
              bind:group={chosen}
            />
            <button
              class="start"
              disabled={!Object.keys(preset.settings).length}
              title={preset.problem ?? undefined}
              data-start={preset.name}
              aria-current={trying.name === preset.name ? 'true' : undefined}
              onfocus={(event) => come(event, preset.name, () => edit(preset))}
              onclick={(event) => press(event, preset.name, () => edit(preset))}
              ondblclick={() => keep(preset.name, () => edit(preset))}
              onkeydown={space}
              onkeyup={space}
              ><b>{preset.name}</b>{#if preset.session_id !== null}<span class="soft"
                  >in this session only</span
                >{/if}{#if preset.problem}<span class="soft">{preset.problem}</span>{/if}</button
            >
            <button class="button" onclick={() => (renaming = preset.id)}>Rename</button>
            <button class="button" onclick={() => presets.remove(preset)}>Delete</button>
          {/if}
        </li>
      {:else}<li class="soft">{none}</li>{/each}
    </ul>
  </div>
  <form
    onsubmit={(event) => {
      event.preventDefault();
      void save();
    }}
  >
    <input
      {placeholder}
      aria-label={field}
      maxlength="120"
      bind:value={name}
      oninput={() => (asking = false)}
    />
    <select aria-label="Where it is kept" bind:value={here} onchange={() => (asking = false)}>
      <option value={false}>everywhere</option>
      <option value={true}>this session</option>
    </select>
    {#if slotted}<label title="All versions, and not only what you hear"
        ><input type="checkbox" bind:checked={withSlots} />with slots</label
      >{/if}
    <button class="button" disabled={!name.trim() || !kept()}>{asking ? 'Replace' : 'Save'}</button>
    <button
      type="button"
      class="button"
      disabled={!presets.list.length}
      title="The chosen ones, or all"
      onclick={() => presets.export(chosen.filter((id) => presets.list.some((preset) => preset.id === id)))}
      >{chosen.length ? `Export ${chosen.length}` : 'Export all'}</button
    >
    <button type="button" class="button" onclick={() => picker?.click()}>Import</button>
    <input
      type="file"
      accept=".json,application/json"
      hidden
      aria-label={file}
      bind:this={picker}
      onchange={(event) => {
        const chosen = event.currentTarget.files?.[0];
        if (chosen) void presets.import(chosen);
        event.currentTarget.value = '';
      }}
    />
  </form>
  <p class="asking" role="status">
    {asking ? `There is a preset "${name.trim()}" already: press Replace, or type another name.` : ''}
  </p>
</Dialog>

<style>
  .tried {
    display: flex;
    justify-content: space-between;
    align-items: center;
    margin: 0 0 4px;
    font-size: 0.75rem;
  }
  [data-start][aria-current] {
    border-color: var(--after);
    outline: 1px solid var(--after);
  }
  p {
    margin: 0 0 4px;
  }
  ul {
    list-style: none;
    margin: 0 0 8px;
    padding: 0;
  }
  .start {
    display: flex;
    flex-direction: column;
    flex: 1;
    width: 100%;
    text-align: left;
    padding: 4px 8px;
    border: 0;
  }
  .start:hover {
    background: var(--ground);
  }
  .start span {
    font-size: 0.75rem;
    line-height: 1rem;
  }
  .asking {
    min-height: 1.25rem;
    color: var(--taken);
  }
  select {
    height: 1.5rem;
    border: 1px solid var(--edge);
    background: var(--ground);
  }
  .own input[type='checkbox'] {
    flex: none;
    width: 16px;
  }
  .own,
  form {
    display: flex;
    gap: 8px;
    align-items: center;
  }
  input {
    flex: 1;
    min-width: 0;
    height: 1.5rem;
    border: 1px solid var(--edge);
    background: var(--ground);
    padding: 0 8px;
  }
</style>
