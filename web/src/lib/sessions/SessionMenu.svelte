<script lang="ts">
  /** The open session's name, tempo and bars; all sessions: open, new, duplicate, delete, restore; the demo sessions. */
  import { api, sendArchive, type JobView, type SessionRow, type TempoAnswer } from '../api/client';
  import Dialog from '../dialogs/Dialog.svelte';
  import { barsAndBeats } from '../draw/grid';
  import { clock } from '../draw/scale';
  import { bytesText } from '../number';
  import { setOf } from '../state/moves';
  import { tapTempo } from '../state/tap';
  import { workspace } from '../state/workspace.svelte';

  let archive = $state<HTMLInputElement | null>(null);
  let { close, fresh }: { close: () => void; fresh: () => void } = $props();
  const DEMOS = ['Low Water', 'Harbour Walk'];
  let rows = $state.raw<SessionRow[]>([]);
  let making = $state<string | null>(null);
  let makingJob = $state<number | null>(null);
  let taps: number[] = [];
  let guess = $state.raw<TempoAnswer | null>(null);
  let estimating = $state(false);
  let wrong = $state<string | null>(null);

  const session = $derived(workspace.session);
  const strip = $derived(workspace.selection.strip);
  const load = () => workspace.attempt(async () => (rows = await api.sessions()));
  void load();

  const when = (seconds: number) =>
    new Date(seconds * 1000).toLocaleString(undefined, { dateStyle: 'short', timeStyle: 'short' });

  async function open(id: number): Promise<void> {
    await workspace.attempt(() => workspace.open(id));
    close();
  }
  async function duplicate(id: number): Promise<void> {
    await workspace.attempt(() => api.duplicate(id));
    await load();
  }
  async function pack(): Promise<void> {
    const id = workspace.version?.id;
    if (id === undefined) return;
    close();
    await workspace.attempt(async () => {
      await api.pack(id);
      await workspace.jobs.poll();
    });
  }
  /** A session of a file that was packed, opened when it is there. */
  async function unpack(file: File | undefined): Promise<void> {
    if (file) await made(file.name, () => sendArchive(file));
  }
  async function remove(row: SessionRow): Promise<void> {
    await workspace.attempt(() => api.remove(row.id));
    await load();
    workspace.note(`${row.name} was deleted.`, 'note', {
      label: 'Undo',
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
  const demo = (name: string) => made(name, () => api.demo(name));
  /** A session that a job makes, opened when it is there. */
  async function made(name: string, begin: () => Promise<JobView>): Promise<void> {
    making = `${name} ...`;
    const job = await workspace.attempt(begin);
    makingJob = job?.id ?? null;
    let state = job;
    while (state && (state.state === 'waiting' || state.state === 'running')) {
      making = `${name}, ${Math.round(state.progress * 100)} %`;
      await new Promise((resolve) => setTimeout(resolve, 300));
      state = await workspace.attempt(() => api.job(job!.id));
    }
    making = makingJob = null;
    if (state?.state === 'done') await open(state.session_id);
    else if (state?.error) workspace.note(state.error, 'error');
  }

  const set = (values: Record<string, string | number>) => workspace.edit(setOf('session', null, values));
  async function rename(field: HTMLInputElement): Promise<void> {
    const wanted = field.value.trim();
    if (wanted && wanted !== workspace.session?.name) await set({ name: wanted });
    field.value = workspace.session?.name ?? '';
    await load();
  }
  /** A typed number for a value of the session, within its limits. */
  async function typed(name: 'tempo_bpm' | 'beats_in_bar' | 'bar_one_s', field: HTMLInputElement) {
    const described = workspace.described.setting('session', name);
    const value = Number(field.value.trim().replace(',', '.'));
    const [low, high] = [described.minimum ?? 0, described.maximum ?? 1];
    wrong = null;
    if (!field.value.trim() || !Number.isFinite(value))
      wrong = `${described.label}: "${field.value}" is no number.`;
    else if (value < low || value > high)
      wrong = `${described.label} is from ${low} to ${high} ${described.unit}.`;
    else if (name === 'beats_in_bar' && !Number.isInteger(value))
      wrong = 'Beats in a bar are whole quarter notes.';
    else if (value !== workspace.session?.[name]) await set({ [name]: value });
    field.value = String(workspace.session?.[name] ?? '');
  }
  function tap(event: MouseEvent): void {
    taps = [...taps.slice(-15), event.timeStamp]; // when it was pressed, however busy the page is
    const bpm = tapTempo(taps);
    if (bpm !== null) void set({ tempo_bpm: bpm });
  }
  async function estimate(): Promise<void> {
    const id = workspace.version?.id;
    if (id === undefined || !strip) return;
    estimating = true;
    guess =
      (await workspace.attempt(() => api.studyTempo(id, { tab: workspace.tab, strip_id: strip.id }))) ?? null;
    estimating = false;
  }
  /** How alike one beat and the next are; whether the beat or half or double of it is meant no sound can say. */
  const clear = (certainty: number) =>
    certainty > 0.4 ? 'A clear beat' : certainty > 0.2 ? 'A fairly clear beat' : 'No clear beat, try drums';
</script>

<Dialog title="Sessions" {close} width={38} side="left">
  {#if session}
    <fieldset>
      <legend class="soft">This session</legend>
      <label
        ><span>Name</span>
        <input
          value={session.name}
          maxlength="120"
          aria-label="Name of this session"
          onchange={(event) => rename(event.currentTarget)}
        /></label
      >
      <div class="row">
        <span>Tempo</span>
        <input
          class="figure short"
          inputmode="decimal"
          aria-label="Tempo, bpm"
          value={session.tempo_bpm}
          onchange={(event) => typed('tempo_bpm', event.currentTarget)}
        />
        bpm
        <button class="button" data-act="tap" title="Tap the beat a few times" onclick={tap}>Tap</button>
        <button
          class="button"
          disabled={estimating || !strip?.media_id}
          title={strip?.media_id
            ? `From the sound of ${strip.name}`
            : 'Choose a track first, best of all drums'}
          onclick={estimate}
          >{estimating ? 'Listening ...' : `Estimate from ${strip?.name ?? 'a track'}`}</button
        >
      </div>
      {#if guess}
        <div class="row guess" role="status" data-figure="tempo">
          {#if guess.bpm === null}Nothing in {strip?.name} repeats.
          {:else}
            <span>{clear(guess.certainty)}; half or double may be meant</span>
            {#each [guess.half_bpm, guess.bpm, guess.double_bpm] as bpm, index (index)}
              {#if bpm !== null}
                <button
                  class="button figure"
                  aria-pressed={session.tempo_bpm === bpm}
                  onclick={() => set({ tempo_bpm: bpm })}>{Number(bpm.toFixed(2))}</button
                >
              {/if}
            {/each}
            <button
              class="button"
              title="Bars are counted from the first beat that was found"
              onclick={() => set({ bar_one_s: Number(guess!.beat_s.toFixed(4)) })}
              >Bar 1 at its first beat</button
            >
          {/if}
        </div>
      {/if}
      <div class="row">
        <label class="inline"
          ><span>Beats in a bar</span>
          <input
            class="figure short"
            inputmode="numeric"
            value={session.beats_in_bar}
            onchange={(event) => typed('beats_in_bar', event.currentTarget)}
          /></label
        >
        <label class="inline"
          ><span>Bar 1 at</span>
          <input
            class="figure short"
            inputmode="decimal"
            aria-label="Bar 1 at, seconds"
            value={session.bar_one_s}
            onchange={(event) => typed('bar_one_s', event.currentTarget)}
          /> s</label
        >
        <button
          class="button"
          title="Bar 1 begins at the playhead, {barsAndBeats(workspace.listening.position_s, workspace.grid)}"
          onclick={() =>
            set({ bar_one_s: Number(Math.min(600, workspace.listening.heardPosition()).toFixed(4)) })}
          >Here</button
        >
      </div>
      <p class="row">
        <span class="soft">{session.rate_hz / 1000} kHz, {session.strips.length} strips</span>
        <span class="space"></span>
        <button
          class="button"
          data-act="pack"
          title="One file with the session and all its sound, for another machine"
          onclick={pack}>Pack to one file</button
        >
      </p>
      <p class="wrong" role="status">{wrong ?? ''}</p>
    </fieldset>
  {/if}
  <ul>
    {#each rows as row (row.id)}
      <li class:open={row.id === workspace.version?.id}>
        {#if row.deleted}
          <span class="soft gone">{row.name} (deleted)</span>
          <button class="button" aria-label="Restore {row.name}" onclick={() => restore(row.id)}
            >Restore</button
          >
        {:else}
          <button
            class="name"
            aria-current={row.id === workspace.version?.id ? 'true' : undefined}
            onclick={() => open(row.id)}>{row.name}</button
          >
          <span class="figure soft"
            >{clock(row.length_s)} &middot; {when(row.changed_at)} &middot; {bytesText(row.media_bytes)}</span
          >
          <button class="button" onclick={() => duplicate(row.id)} aria-label="Duplicate {row.name}"
            >Duplicate</button
          >
          <button class="button" onclick={() => remove(row)} aria-label="Delete {row.name}">Delete</button>
        {/if}
      </li>
    {/each}
  </ul>
  <div class="row">
    <button class="button" onclick={fresh}>New session ...</button>
    <button
      class="button"
      data-act="unpack"
      title="A session file that was packed"
      disabled={making !== null}
      onclick={() => archive?.click()}>Open session file ...</button
    >
    <input
      bind:this={archive}
      type="file"
      accept=".zip"
      hidden
      aria-label="Session file"
      onchange={(event) => {
        void unpack(event.currentTarget.files?.[0]);
        event.currentTarget.value = '';
      }}
    />
    <span class="space"></span>
    <span class="soft">{making ? `Making ${making}` : 'Restore demo:'}</span>
    {#if makingJob !== null}
      <button class="button" onclick={() => void workspace.attempt(() => api.cancel(makingJob!))}
        >Cancel</button
      >
    {/if}
    {#each DEMOS as name (name)}
      <button class="button" disabled={making !== null} onclick={() => demo(name)}>{name}</button>
    {/each}
  </div>
</Dialog>

<style>
  fieldset {
    margin: 0 0 8px;
    padding: 0 0 4px;
    border: 0;
    border-bottom: 1px solid var(--line);
  }
  label,
  .row {
    display: flex;
    flex-wrap: wrap;
    gap: 8px;
    align-items: center;
    min-height: 2rem;
  }
  label > span:first-child,
  .row > span:first-child {
    min-width: 48px;
  }
  .inline > span:first-child {
    min-width: 0;
  }
  input {
    height: 1.625rem;
    border: 1px solid var(--edge);
    background: var(--ground);
    padding: 0 6px;
    flex: 1;
    min-width: 0;
  }
  .short {
    flex: none;
    width: 76px;
  }
  p {
    margin: 0;
  }
  .wrong {
    color: var(--taken);
  }
  ul {
    list-style: none;
    margin: 0 0 8px;
    padding: 0;
  }
  li {
    display: flex;
    gap: 4px;
    align-items: center;
    min-height: 2rem;
    border-bottom: 1px solid var(--line);
  }
  .name,
  .gone {
    flex: 1;
    text-align: left;
    padding: 0 4px;
    min-height: 1.75rem;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .open .name {
    font-weight: 650;
  }
  .space {
    flex: 1;
  }
</style>
