/** What is done along the session: where the playhead goes, what the passage is, which part is seen, and the sections. */
import { api, newId, type Edit, type Section } from '../api/client';
import { barFrom, barNumber, beatLength, toBeat } from '../draw/grid';
import { clamp } from '../controls/value';
import { workspace } from './workspace.svelte';

/** No less of the session is seen at once, in seconds. */
const MIN_SPAN_S = 2;
const SNAP = 'saltanvil.snap';

class View {
  /** What is seen of a session, in seconds; null is everything. */
  private seen = $state.raw<{ of: number | undefined; span: [number, number] } | null>(null);
  snap = $state(localStorage.getItem(SNAP) !== 'off');

  get length(): number {
    return Math.max(1e-3, workspace.version?.length_s ?? 1);
  }

  get span(): [number, number] {
    return this.seen && this.seen.of === workspace.version?.id ? this.seen.span : [0, this.length];
  }

  show(from: number, to: number): void {
    const span = clamp(to - from, Math.min(MIN_SPAN_S, this.length), this.length);
    const start = clamp(from, 0, this.length - span);
    this.seen =
      span >= this.length - 1e-6 ? null : { of: workspace.version?.id, span: [start, start + span] };
    workspace.measuring.setOverviewColumns(this.length / span);
  }
}

export const view = new View();

/** factor: of the span that is seen; around: the place that stays where it is. */
export function zoom(factor: number, around?: number): void {
  const [from, to] = view.span;
  const at = around ?? clamp(workspace.listening.heardPosition(), from, to);
  view.show(at - (at - from) * factor, at + (to - at) * factor);
}

export function scroll(by_s: number): void {
  const [from, to] = view.span;
  view.show(from + by_s, to + by_s);
}

export function fitPassage(): void {
  const { start_s, end_s } = workspace.listening.passage;
  const margin = 0.05 * (end_s - start_s);
  view.show(start_s - margin, end_s + margin);
}

export const fitAll = () => view.show(0, view.length);

export function toggleSnap(): void {
  view.snap = !view.snap;
  localStorage.setItem(SNAP, view.snap ? 'on' : 'off');
}

/** On the nearest beat, if that is on. */
export function snapped(at_s: number): number {
  return clamp(view.snap ? toBeat(at_s, workspace.grid) : at_s, 0, 1e6);
}

/** The playhead so many bars on; the passage and the loop stay. */
export function step(bars: number): void {
  workspace.listening.seek(
    clamp(barFrom(workspace.listening.heardPosition(), bars, workspace.grid), 0, view.length),
  );
}

export function passageName(start_s: number, end_s: number): string {
  return `Bars ${barNumber(start_s, workspace.grid)} to ${barNumber(end_s, workspace.grid)}`;
}

export function setPassage(from_s: number, to_s: number): void {
  const [start_s, wanted] = [snapped(Math.min(from_s, to_s)), snapped(Math.max(from_s, to_s))];
  const end_s = Math.max(wanted, start_s + (view.snap ? beatLength(workspace.grid) : 0.01));
  workspace.listening.setPassage({ start_s, end_s, name: passageName(start_s, end_s) });
}

export function passageFrom(): void {
  const at = workspace.listening.heardPosition();
  setPassage(at, Math.max(workspace.listening.passage.end_s, at + beatLength(workspace.grid)));
}

export function passageTo(): void {
  const at = workspace.listening.heardPosition();
  setPassage(Math.min(workspace.listening.passage.start_s, at - beatLength(workspace.grid)), at);
}

// ---- sections --------------------------------------------------------------------------------------------------------

const sections = () => workspace.session?.sections ?? [];

/** Listen to a section. */
export function take({ start_s, end_s, name }: Section): void {
  workspace.listening.setPassage({ start_s, end_s, name });
}

/** The section before or after the passage. */
export function section(way: 1 | -1): void {
  const { start_s } = workspace.listening.passage;
  const all = sections();
  const result =
    way > 0
      ? all.find((one) => one.start_s > start_s + 1e-6)
      : all.findLast((one) => one.start_s < start_s - 1e-6);
  if (result) take(result);
  else
    workspace.note(
      all.length ? 'There is no further section.' : 'There is no section yet: drag one above the waveform.',
    );
}

export async function add(start_s: number, end_s: number, name?: string): Promise<string> {
  const id = newId();
  const section = { id, name: name ?? `Section ${sections().length + 1}`, start_s, end_s };
  await workspace.edit({ op: 'add_section', section });
  return id;
}

export function rename(section: Section, name: string): void {
  const wanted = name.trim();
  if (!wanted || wanted === section.name) return;
  void workspace.edit({ op: 'set_section', section_id: section.id, name: wanted });
  followed(section, { ...section, name: wanted });
}

export function resize(section: Section, start_s: number, end_s: number): void {
  if (end_s <= start_s) workspace.note(`${section.name} must end after it starts.`, 'error');
  else {
    void workspace.edit({ op: 'set_section', section_id: section.id, start_s, end_s });
    followed(section, { ...section, start_s, end_s });
  }
}

/** The passage goes with a section that it is. */
function followed(before: Section, after: Section): void {
  const { passage } = workspace.listening;
  if (passage.start_s === before.start_s && passage.end_s === before.end_s) take(after);
}

export function remove(id: string): void {
  const gone = sections().find((one) => one.id === id);
  if (!gone) return;
  void workspace.edit({ op: 'remove_section', section_id: id });
  workspace.note(`Section ${gone.name} removed.`, 'note', workspace.history.offer());
}

export function splitAtPlayhead(): void {
  const at_s = snapped(workspace.listening.heardPosition());
  const result = sections().find((one) => one.start_s < at_s - 1e-6 && one.end_s > at_s + 1e-6);
  if (!result) return workspace.note('The playhead is in no section that could be split there.');
  const second = { id: newId(), name: `${result.name} 2`, start_s: at_s, end_s: result.end_s };
  const edits: Edit[] = [
    { op: 'set_section', section_id: result.id, end_s: at_s },
    { op: 'add_section', section: second, like: result.id },
  ];
  void workspace.edit({ op: 'batch', edits });
}

/** One section from a section and the next, with the name of the first. */
export function merge(first: Section): void {
  const next = sections().find((one) => one.start_s > first.start_s);
  if (!next) return workspace.note(`There is no section after ${first.name}.`);
  const edits: Edit[] = [
    { op: 'remove_section', section_id: next.id },
    { op: 'set_section', section_id: first.id, end_s: Math.max(first.end_s, next.end_s) },
  ];
  void workspace.edit({ op: 'batch', edits });
}

/** Sections from changes of the main's loudness. */
export async function propose(): Promise<void> {
  const id = workspace.version?.id;
  if (id === undefined) return;
  const answer = await workspace.attempt(() => api.studyParts(id, { tab: workspace.tab }));
  if (!answer) return;
  await workspace.edit(answer.edit as Edit);
  workspace.note(
    `${answer.sections.length} ${answer.sections.length === 1 ? 'section' : 'sections'} by changes of loudness; rename them as you like.`,
    'note',
    workspace.history.offer(),
  );
}

export async function readCsv(file: File): Promise<void> {
  const id = workspace.version?.id;
  if (id === undefined) return;
  const answer = await workspace.attempt(async () => api.readSections(id, await file.text()));
  if (answer) await workspace.edit(answer.edit as Edit);
}
