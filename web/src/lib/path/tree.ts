/** Where steps and lanes stand in a path, and where the arrows lead from there. Pure functions. */
import { newId, type Lane, type Lever, type Step } from '../api/client';

/** What is chosen on a path: a step, a lane, or (neither) the strip itself. */
export interface Chosen {
  stepId: string | null;
  laneId: string | null;
}

/** A step or a lane with what it stands in. `trail`: the splits and lanes around it, the outermost first. */
export interface Context {
  step: Step | null;
  lane: Lane | null;
  /** The split whose lane this is, or in whose lane it stands. */
  split: Step | null;
  siblings: Step[];
  index: number;
  trail: { split: Step; lane: Lane }[];
}

export function find(
  steps: Step[],
  { stepId, laneId }: Chosen,
  trail: Context['trail'] = [],
): Context | null {
  const around = trail.at(-1) ?? null;
  for (const [index, step] of steps.entries()) {
    if (stepId !== null && step.id === stepId)
      return {
        step,
        lane: around?.lane ?? null,
        split: around?.split ?? null,
        siblings: steps,
        index,
        trail,
      };
    for (const lane of step.lanes ?? []) {
      const inside = [...trail, { split: step, lane }];
      if (stepId === null && laneId === lane.id)
        return { step: null, lane, split: step, siblings: lane.path.steps, index: -1, trail: inside };
      const result = find(lane.path.steps, { stepId, laneId }, inside);
      if (result) return result;
    }
  }
  return null;
}

export function* everyStep(steps: Step[]): Generator<Step> {
  for (const step of steps) {
    yield step;
    for (const lane of step.lanes ?? []) yield* everyStep(lane.path.steps);
  }
}

/** Copies of steps under new names, to be put somewhere else; keys among them go from copy to copy. names: takes the new name of each. */
export function renamed(steps: Step[], names: Record<string, string> = {}): Step[] {
  const fresh = (id: string) => (names[id] ??= newId());
  const copies = (steps: Step[]): Step[] =>
    steps.map(({ id, lanes, ...step }) => ({
      ...step,
      id: fresh(id),
      ...(lanes && {
        lanes: lanes.map((lane) => ({
          ...lane,
          id: fresh(lane.id),
          solo: false,
          output: null,
          path: { steps: copies(lane.path.steps) },
        })),
      }),
    }));
  const made = copies(steps);
  for (const step of everyStep(made)) {
    const { key } = step;
    if (key) {
      const moved = (id: string | null) => (id === null ? null : (names[id] ?? id));
      step.key = { ...key, step_id: moved(key.step_id), lane_id: moved(key.lane_id) };
    }
  }
  return made;
}

const STRIP: Chosen = { stepId: null, laneId: null };
const ofStep = (step: Step): Chosen => ({ stepId: step.id, laneId: null });
const ofLane = (lane: Lane): Chosen => ({ stepId: null, laneId: lane.id });

/**
 * Where an arrow leads: left and right along a path, down from a split into its first lane, up and down between the
 * lanes (to the same place in them), left from a lane's beginning and up from the first lane back to the split, right
 * from a lane's end to what follows the split. Null where there is nothing.
 */
export function arrow(steps: Step[], from: Chosen, way: 'left' | 'right' | 'up' | 'down'): Chosen | null {
  if (from.stepId === null && from.laneId === null) {
    return way === 'right' && steps[0] ? ofStep(steps[0]) : null;
  }
  const result = find(steps, from);
  if (!result) return null;
  const { step, split, siblings, index, trail } = result;
  const lane = trail.at(-1)?.lane ?? null;
  if (way === 'left') {
    if (step === null) return ofStep(split!);
    const before = siblings[index - 1];
    return before ? ofStep(before) : lane ? ofLane(lane) : STRIP;
  }
  if (way === 'right') {
    const next = siblings[index + 1];
    if (next) return ofStep(next);
    return lane ? arrow(steps, ofStep(split!), 'right') : null;
  }
  if (way === 'down' && step?.lanes?.[0]) return ofLane(step.lanes[0]);
  if (!lane || !split) return null;
  const lanes = split.lanes ?? [];
  const at = lanes.indexOf(lane) + (way === 'down' ? 1 : -1);
  const other = lanes[at];
  if (!other) {
    if (way === 'up') return ofStep(split);
    // Below the last lane of an inner split lies the next lane of the outer one.
    return trail.length > 1 ? arrow(steps, ofLane(trail.at(-2)!.lane), way) : null;
  }
  const same = other.path.steps[Math.min(index, other.path.steps.length - 1)];
  return index < 0 || !same ? ofLane(other) : ofStep(same);
}

/** Copies of levers for copies of steps: what they move by its new name, without what was not copied; those that move levers last. */
export function renamedLevers(levers: Lever[], names: Record<string, string>): Lever[] {
  for (const { id } of levers) names[id] ??= newId();
  const movesLevers = (lever: Lever) => Number(lever.targets.some((target) => target.of === 'lever'));
  const ordered = [...levers].sort((one, other) => movesLevers(one) - movesLevers(other));
  return ordered.map((lever) => ({
    ...lever,
    id: names[lever.id]!,
    targets: lever.targets.flatMap((target) =>
      target.id !== null && names[target.id] ? [{ ...target, id: names[target.id]! }] : [],
    ),
  }));
}
