/** What is done to several strips at once: a bus from them, level, mute, solo, output, removal, stage gain. */
import { api, newId, type Edit, type Strip } from '../api/client';
import { batch, movesOf, setAll } from './moves';
import { setLane } from './splits';
import { bypassSteps } from './steps';
import type { Workspace } from './workspace.svelte';

const listed = (strips: Strip[]) =>
  strips.length > 3 ? `${strips.length} strips` : strips.map((strip) => strip.name).join(', ');

/** The strips an act is about: those chosen together in their order, or the chosen one. */
export function chosenStrips(workspace: Workspace): Strip[] {
  const all = workspace.session?.strips ?? [];
  const together = all.filter((strip) => workspace.selection.stripIds.includes(strip.id));
  return together.length ? together : workspace.selection.strip ? [workspace.selection.strip] : [];
}

/** Whether an act on a strip is about all that are chosen with it. */
export function withChosen(workspace: Workspace, strip: Strip): Strip[] {
  const chosen = chosenStrips(workspace);
  return chosen.some((other) => other.id === strip.id) ? chosen : [strip];
}

function undoable(workspace: Workspace, topic: string, text: string): void {
  workspace.note(text, 'note', workspace.history.offer(), topic);
}

export function muteChosen(workspace: Workspace): void {
  const { lane } = workspace.selection;
  if (lane) {
    setLane(workspace, lane, { mute: !lane.mute });
    undoable(workspace, 'mute', `${lane.name} ${lane.mute ? 'no longer muted' : 'muted'}.`);
  } else switchStrips(workspace, chosenStrips(workspace), 'mute', true);
}

export function soloChosen(workspace: Workspace): void {
  const { lane } = workspace.selection;
  if (lane) {
    setLane(workspace, lane, { solo: !lane.solo });
    undoable(workspace, 'solo', `${lane.name} ${lane.solo ? 'no longer soloed' : 'soloed'}.`);
  } else switchStrips(workspace, chosenStrips(workspace), 'solo', true);
}

/** On for all, or off if it is on for each of them. said: also in a notice, as no button was seen to change. */
export function switchStrips(
  workspace: Workspace,
  strips: Strip[],
  name: 'mute' | 'solo',
  said = false,
): void {
  const these = name === 'solo' ? strips.filter((strip) => strip.kind !== 'main') : strips;
  if (!these.length) return workspace.note('The main cannot be soloed.');
  const on = !these.every((strip) => strip[name]);
  void workspace.edit(setAll(these.flatMap((strip) => movesOf('strip', strip.id, { [name]: on }))));
  const done = name === 'mute' ? 'muted' : 'soloed';
  if (said) undoable(workspace, name, `${listed(these)} ${on ? done : `no longer ${done}`}.`);
}

/** Bypass all steps of the chosen strips, or take them all back if every one is bypassed. */
export function bypassPaths(workspace: Workspace): void {
  bypassSteps(
    workspace,
    chosenStrips(workspace).flatMap((strip) => strip.path.steps),
  );
}

/** Levels move together and keep their distances, as far as all of them can go. */
export function moveLevels(
  workspace: Workspace,
  strips: Strip[],
  by_db: number,
  gesture: string | null = null,
): void {
  const loudest = Math.max(...strips.map((strip) => strip.level_db));
  const quietest = Math.min(...strips.map((strip) => strip.level_db));
  const { minimum, maximum } = workspace.described.setting('strip', 'level_db');
  const step = Math.min(Math.max(by_db, minimum! - quietest), maximum! - loudest);
  if (!strips.length || Math.abs(step) < 0.05) return;
  const moved = strips.flatMap((strip) =>
    movesOf('strip', strip.id, { level_db: Math.round((strip.level_db + step) * 10) / 10 }),
  );
  void workspace.edit(setAll(moved), gesture);
}

/** A new bus that the strips feed; it feeds what they fed. */
export async function busOf(workspace: Workspace, strips: Strip[]): Promise<string | null> {
  const feeding = strips.filter((strip) => strip.kind !== 'main');
  if (!feeding.length) {
    workspace.note('Choose the tracks that the bus is for.');
    return null;
  }
  const id = newId();
  const all = workspace.session?.strips ?? [];
  const outputs = new Set(feeding.map((strip) => strip.output));
  const output = outputs.size === 1 ? feeding[0]!.output : 'main';
  const name =
    feeding.length === 1
      ? `${feeding[0]!.name} bus`
      : `Bus ${all.filter((s) => s.kind === 'bus').length + 1}`;
  const index = Math.min(...feeding.map((strip) => all.indexOf(strip)));
  await workspace.edit({
    op: 'batch',
    edits: [
      { op: 'add_strip', index, strip: { id, name, kind: 'bus', output } },
      ...feeding.map((strip) => ({ op: 'set_output' as const, strip_id: strip.id, output: id })),
    ],
  });
  workspace.selection.choose(id);
  return id;
}

export async function setOutputs(
  workspace: Workspace,
  strips: Strip[],
  output: string | null,
): Promise<void> {
  const moving = strips.filter((strip) => strip.kind !== 'main' && strip.id !== output);
  if (moving.length)
    await workspace.edit(batch(moving.map((strip) => ({ op: 'set_output', strip_id: strip.id, output }))));
}

export async function removeStrips(workspace: Workspace, strips: Strip[]): Promise<void> {
  const going = strips.filter((strip) => strip.kind !== 'main');
  if (!going.length) return workspace.note('The main cannot be removed.');
  await workspace.edit(batch(going.map((strip) => ({ op: 'remove_strip', strip_id: strip.id }))));
  workspace.selection.stripIds = [];
  undoable(workspace, 'removed', `${listed(going)} removed.`);
}

/** Trims that bring tracks to a working level, as one edit; says what could not be measured. */
export function stageGain(
  workspace: Workspace,
  strips: Strip[],
  level: 'rms' | 'short-term' | 'peak',
  target_db: number,
): Promise<void> {
  return workspace.storing(() => stagedGain(workspace, strips, level, target_db));
}

async function stagedGain(
  workspace: Workspace,
  strips: Strip[],
  level: 'rms' | 'short-term' | 'peak',
  target_db: number,
): Promise<void> {
  const id = workspace.version?.id;
  if (id === undefined) return;
  const answer = await workspace.attempt(() =>
    api.studyStageGain(id, {
      tab: workspace.tab,
      strip_ids: strips.map((strip) => strip.id),
      level,
      target_db,
    }),
  );
  if (!answer) return;
  const silent = answer.trims
    .filter((trim) => trim.level_db === null)
    .map((trim) => workspace.stripNamed(trim.strip_id));
  if (answer.edit) await workspace.edit(answer.edit as Edit);
  const moved = answer.trims.length - silent.length;
  const left = silent.length ? ` Nothing to measure in ${silent.join(', ')}.` : '';
  undoable(
    workspace,
    'stage gain',
    answer.edit
      ? `Trims of ${moved} ${moved === 1 ? 'strip' : 'strips'} set.${left}`
      : `All trims stand right.${left}`,
  );
}

/** Two mono tracks in the place of a stereo one; the left one is chosen then. */
export async function splitTrack(workspace: Workspace, strip: Strip): Promise<void> {
  const at = (workspace.session?.strips ?? []).findIndex((other) => other.id === strip.id);
  if (!(await workspace.jobs.split(strip.id))) return;
  await workspace.came();
  const left = workspace.session?.strips[at];
  if (left) workspace.selection.choose(left.id);
  undoable(workspace, 'split track', `${strip.name} split to two tracks.`);
}

/** Whether a strip's path can be printed at all: what stands in the way beyond that the server says. */
export const printable = (strip: Strip): boolean =>
  strip.kind === 'track' && strip.media_id !== null && !strip.printed && strip.path.steps.length > 0;

/** Let tracks play what leaves their paths, in one edit. */
export async function printStrips(workspace: Workspace, strips: Strip[]): Promise<void> {
  const those = strips.filter(printable);
  if (!those.length || !(await workspace.jobs.print(those.map((strip) => strip.id)))) return;
  await workspace.came();
  undoable(workspace, 'print', `${those.length === 1 ? those[0]!.name : `${those.length} tracks`} printed.`);
}

/** Let a track play another file; all that is done to it stays. What differs is said. */
export async function replaceRecording(workspace: Workspace, strip: Strip, file: File): Promise<void> {
  const view = await workspace.jobs.import([file], 'given', false, strip.id);
  if (!view) return;
  await workspace.came();
  undoable(workspace, 'replace', [`${strip.name} plays ${file.name} now.`, ...view.notes].join(' '));
}
