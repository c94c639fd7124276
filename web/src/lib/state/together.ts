/** What is done to the steps of the chosen strip is done to all strips chosen with it, each step in its place there. */
import type { Edit, Step } from '../api/client';
import { everyStep } from '../path/tree';
import type { Selection } from './selection.svelte';

type OnStrips = Extract<Edit, { op: 'on_strips' }>;

/** The strips chosen with the one that is shown. */
export const alsoChosen = (selection: Selection): string[] =>
  selection.stripIds.includes(selection.stripId)
    ? selection.stripIds.filter((id) => id !== selection.stripId)
    : [];

/** The edit for all strips that are chosen; itself if only one is, or if it is about something else than steps. */
export function together(selection: Selection, edit: Edit): Edit {
  const others = alsoChosen(selection);
  const strip = selection.strip;
  if (!others.length || !strip) return edit;
  const steps = [...everyStep(strip.path.steps)];
  const names = new Set([...steps, ...steps.flatMap((step) => step.lanes ?? [])].map(({ id }) => id));
  if (edit.op === 'set') {
    const ofSteps = ({ of, id }: { of: string; id?: string | null }) =>
      (of === 'step' || of === 'lane') && names.has(id ?? '');
    return edit.values.every(ofSteps) ? { ...edit, strips: others } : edit;
  }
  const edits = flat(edit);
  const here = (one: Edit): boolean =>
    one.op === 'add_step' || one.op === 'add_lever'
      ? one.strip_id === strip.id
      : one.op === 'remove_step' || (one.op === 'move_step' && one.strip_id === strip.id)
        ? names.has(one.step_id)
        : false;
  const alone = edits.length === 0 || edits.every((one) => one.op === 'add_lever');
  return alone || !edits.every(here)
    ? edit
    : { op: 'on_strips', strip_ids: others, edits: edits as OnStrips['edits'] };
}

const flat = (edit: Edit): Edit[] => (edit.op === 'batch' ? edit.edits.flatMap(flat) : [edit]);

/** The link that a step is in. */
export const linkOf = <L extends { step_ids: string[] }>(links: L[] | undefined, step: Step): L | null =>
  links?.find((link) => link.step_ids.includes(step.id)) ?? null;
