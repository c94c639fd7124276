/** What is done with levers: made, given settings, learnt from what was moved. */
import {
  newId,
  type Lever,
  type LeverTarget,
  type Moved,
  type Session,
  type Setting,
  type Step,
  type Strip,
} from '../api/client';
import { canMove, keyOf, leversOf, type Address } from './course';
import { everyStep } from '../path/tree';
import type { Workspace } from './workspace.svelte';

/** The strip a lever is on; null for the session's own. */
export const stripOf = (session: Session, leverId: string): Strip | null =>
  session.strips.find((strip) => strip.path.levers?.some((lever) => lever.id === leverId)) ?? null;

export const leverById = (session: Session | null, id: string): Lever | null =>
  (session && leversOf(session).find((lever) => lever.id === id)) ?? null;

/** The strip that a value is on. */
export function stripOfValue(session: Session, { of, id }: Address): Strip | null {
  const holds = (strip: Strip): boolean => {
    if (of === 'strip') return strip.id === id;
    if (of === 'send') return strip.sends.some((send) => send.id === id);
    if (of === 'lever') return Boolean(strip.path.levers?.some((lever) => lever.id === id));
    for (const step of everyStep(strip.path.steps)) {
      if ((of === 'step' || of === 'key') && step.id === id) return true;
      if (of === 'lane' && step.lanes?.some((lane) => lane.id === id)) return true;
    }
    return false;
  };
  return session.strips.find(holds) ?? null;
}

/** The levers that a value can be put under. */
export function leversFor(workspace: Workspace, address: Address): Lever[] {
  const { session } = workspace;
  if (!session) return [];
  const strip = stripOfValue(session, address);
  const own = (strip?.path.levers ?? []).filter((lever) => address.of !== 'lever' || lever.id !== address.id);
  const all = [...own, ...session.levers.filter((lever) => lever.id !== address.id)];
  return all.filter((lever) => !lever.targets.some((target) => keyOf(target) === keyOf(address)));
}

/** A lever on the chosen strip, or on the session; returns its name. */
export async function newLever(workspace: Workspace, name: string, onSession = false): Promise<string> {
  const id = newId();
  const strip_id = onSession ? null : workspace.selection.stripId;
  await workspace.edit({ op: 'add_lever', strip_id, lever: { id, name, value: 0, targets: [] } });
  return id;
}

/** One dry/wet control for several steps: at 100 % as they stand, at 0 % dry. Steps without a mix have no part in it. */
export async function dryWetLever(workspace: Workspace, steps: Step[]): Promise<void> {
  const mixes = steps.flatMap((step) => {
    const mix = step.settings['mix'];
    return typeof mix === 'number' ? [{ id: step.id, mix }] : [];
  });
  if (!mixes.length) return workspace.note('None of these steps has a mix.');
  const targets: LeverTarget[] = mixes.map(({ id, mix }) => ({
    of: 'step',
    id,
    name: 'mix',
    by: mix,
    bend: 0,
  }));
  const values: Moved[] = mixes.map(({ id }) => ({ of: 'step', id, name: 'mix', value: 0 }));
  const lever = { id: newId(), name: 'Dry/wet', value: 1, targets };
  await workspace.edit({
    op: 'batch',
    edits: [
      { op: 'set', values, alone: true },
      { op: 'add_lever', strip_id: workspace.selection.stripId, lever },
    ],
  });
}

/** Another setting under a lever, at first without being moved. */
export function addTarget(workspace: Workspace, leverId: string, address: Address): void {
  const lever = leverById(workspace.session, leverId);
  const setting = settingOf(workspace, address);
  if (!lever || !setting) return;
  const by = setting.scale === 'log' ? 1 : 0;
  const target: LeverTarget = { of: address.of, id: address.id, name: address.name, by, bend: 0 };
  void workspace.edit({ op: 'set_lever', lever_id: leverId, moves: [...lever.targets, target] });
}

export function settingOf(workspace: Workspace, { of, id, name }: Address): Setting | null {
  if (of !== 'step') return workspace.described.settings[of]?.find((one) => one.name === name) ?? null;
  const step = workspace.stepById(id ?? '');
  return (
    (step && workspace.described.processor(step.kind)?.settings.find((one) => one.name === name)) ?? null
  );
}

export interface Choice {
  address: Address;
  value: number;
  owner: string;
  label: string;
}

/** Every value on some strips that a lever can move, and shared levers, with what the document says of them. */
export function choices(workspace: Workspace, strips: Strip[], shared: Lever[] = []): Choice[] {
  const result: Choice[] = [];
  const take = (of: Address['of'], id: string, owner: string, part: object, settings: Setting[]) => {
    for (const setting of settings) {
      const value = (part as Record<string, unknown>)[setting.name];
      const address = { of, id, name: setting.name };
      if (typeof value === 'number' && setting.type === 'number' && canMove(address, setting))
        result.push({ address, value, owner, label: setting.label });
    }
  };
  for (const lever of shared)
    take('lever', lever.id, `lever ${lever.name}`, lever, workspace.described.settings.lever ?? []);
  for (const strip of strips) {
    take('strip', strip.id, strip.name, strip, workspace.described.settings.strip ?? []);
    for (const lever of strip.path.levers ?? [])
      take(
        'lever',
        lever.id,
        `${strip.name}, lever ${lever.name}`,
        lever,
        workspace.described.settings.lever ?? [],
      );
    for (const send of strip.sends)
      take(
        'send',
        send.id,
        `${strip.name} to ${workspace.stripNamed(send.target)}`,
        send,
        workspace.described.settings.send ?? [],
      );
    for (const step of everyStep(strip.path.steps)) {
      const processor = workspace.described.processor(step.kind);
      const owner = `${strip.name}, ${processor?.label.toLowerCase() ?? step.kind}`;
      take('step', step.id, owner, step.settings, processor?.settings ?? []);
      if (step.key) take('key', step.id, `${owner} key`, step.key, workspace.described.settings.key ?? []);
      for (const lane of step.lanes ?? [])
        take(
          'lane',
          lane.id,
          `${strip.name}, lane ${lane.name}`,
          lane,
          workspace.described.settings.lane ?? [],
        );
    }
  }
  return result;
}

/** What stands elsewhere than it did, with its value then. */
export function movedSince(before: Choice[], now: Choice[]): Moved[] {
  const present = Object.fromEntries(now.map((choice) => [keyOf(choice.address), choice.value]));
  return before
    .filter(({ address, value }) => {
      const current = present[keyOf(address)];
      return current !== undefined && current !== value;
    })
    .map(({ address, value }) => ({ ...address, value }));
}
