/** The document as the page has it: what the server answered, and what is on its way to it, shown ahead of its answer. */
import type { Delivery, Edit, Lane, Lever, Moved, Step, Strip, Version, VersionAnswer } from '../api/client';

/** The version after an answer; null if the answer goes on from another version than the page has. */
export function merged(known: Version | null, answer: VersionAnswer): Version | null {
  if (answer.since === null) return { ...answer, routing: answer.routing! };
  if (!known || known.id !== answer.id || known.revision !== answer.since) return null;
  const strips = new Map(
    [...known.session.strips, ...answer.session.strips].map((strip) => [strip.id, strip]),
  );
  const changed = new Set(answer.session.strips.flatMap((strip) => [...stepIds(strip)]));
  const old = <T>(of: Record<string, T>) =>
    Object.fromEntries(Object.entries(of).filter(([id]) => !changed.has(id)));
  return {
    ...answer,
    session: { ...answer.session, strips: answer.strip_ids.map((id) => strips.get(id)!) },
    routing: answer.routing ?? known.routing,
    plates: { ...old(known.plates), ...answer.plates },
    resolved: { ...old(known.resolved), ...answer.resolved },
    sums: { ...old(known.sums), ...answer.sums },
  };
}

function* stepIds(strip: Strip): Generator<string> {
  const within = function* (steps: Step[]): Generator<string> {
    for (const step of steps) {
      yield step.id;
      for (const lane of step.lanes ?? []) yield* within(lane.path.steps);
    }
  };
  yield* within(strip.path.steps);
}

/** The version with the values that edits will set; edits of another sort show when they are answered. */
export function previewed(version: Version, edits: Edit[]): Version {
  let { session } = version;
  for (const edit of edits) {
    if (edit.op === 'set_delivery')
      session = { ...session, delivery: { ...session.delivery, ...(edit.values as Partial<Delivery>) } };
    if (edit.op !== 'set') continue;
    for (const moved of edit.values) {
      if (moved.of === 'lever') session = { ...session, levers: inLevers(session.levers, moved) };
      if (moved.of === 'session') session = { ...session, [moved.name]: moved.value };
      else session = { ...session, strips: session.strips.map((strip) => inStrip(strip, moved)) };
    }
  }
  return session === version.session ? version : { ...version, session };
}

function inStrip(strip: Strip, moved: Moved): Strip {
  if (moved.of === 'strip') return strip.id === moved.id ? { ...strip, [moved.name]: moved.value } : strip;
  if (moved.of === 'send') {
    const sends = each(strip.sends, (send) =>
      send.id === moved.id ? { ...send, [moved.name]: moved.value } : send,
    );
    return sends === strip.sends ? strip : { ...strip, sends };
  }
  if (moved.of === 'lever') {
    const levers = inLevers(strip.path.levers ?? [], moved);
    return levers === (strip.path.levers ?? []) ? strip : { ...strip, path: { ...strip.path, levers } };
  }
  const steps = each(strip.path.steps, (step) => inStep(step, moved));
  return steps === strip.path.steps ? strip : { ...strip, path: { ...strip.path, steps } };
}

const inLevers = (levers: Lever[], moved: Moved): Lever[] =>
  each(levers, (lever) => (lever.id === moved.id ? { ...lever, [moved.name]: moved.value } : lever));

function inStep(step: Step, moved: Moved): Step {
  if (step.id === moved.id && moved.of === 'key')
    return step.key ? { ...step, key: { ...step.key, [moved.name]: moved.value } } : step;
  if (step.id === moved.id && moved.of === 'step') return withValue(step, moved);
  if (!step.lanes?.length) return step;
  const lanes = each(step.lanes, (lane) => inLane(lane, moved));
  return lanes === step.lanes ? step : { ...step, lanes };
}

function inLane(lane: Lane, moved: Moved): Lane {
  if (moved.of === 'lane' && lane.id === moved.id) return { ...lane, [moved.name]: moved.value };
  const steps = each(lane.path.steps, (step) => inStep(step, moved));
  return steps === lane.path.steps ? lane : { ...lane, path: { ...lane.path, steps } };
}

/** A setting of the step's processor, one place of a list of it (`dividers_hz.1`), or a value of the step itself. */
function withValue(step: Step, moved: Moved): Step {
  const [name = '', place] = moved.name.split('.');
  if (!(name in step.settings)) return { ...step, [name]: moved.value };
  const list = step.settings[name];
  const value =
    place !== undefined && Array.isArray(list)
      ? (list as number[]).map((old, n) => (n === Number(place) ? (moved.value as number) : old))
      : moved.value;
  return { ...step, settings: { ...step.settings, [name]: value } };
}

/** `map` that gives the list itself back where nothing changed. */
function each<T>(list: T[], change: (item: T) => T): T[] {
  const next = list.map(change);
  return next.some((item, n) => item !== list[n]) ? next : list;
}
