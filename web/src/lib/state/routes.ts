/** What is done with keys and sends, from the map and from the editor. */
import type { Key, Send, Step, Strip } from '../api/client';
import { newId } from '../api/client';
import { everyStep } from '../path/tree';
import { splitName } from './splits';
import type { Workspace } from './workspace.svelte';

export const labelOf = (workspace: Workspace) => (step: Step) =>
  step.lanes ? splitName(step) : (workspace.described.processor(step.kind)?.label ?? step.kind);

/** Change something of a step's key; its source stays. */
export function setKey(
  workspace: Workspace,
  step: Step,
  what: Partial<Pick<Key, 'trim_db' | 'mutes'>>,
  gesture: string | null = null,
): void {
  workspace.move('key', step.id, what, gesture);
}

/** Listen to another source, with the trim it has; null is the detector's own signal. */
export function setSource(workspace: Workspace, step: Step, source: Partial<Key> | null): void {
  const { trim_db, mutes } = step.key ?? { trim_db: 0, mutes: false };
  const key = source && { ...source, trim_db, mutes };
  void workspace.edit({ op: 'set_key', step_id: step.id, key });
}

export function setSend(
  workspace: Workspace,
  send: Send,
  what: Partial<Omit<Send, 'id' | 'target' | 'envelopes'>>,
  gesture: string | null = null,
): void {
  workspace.move('send', send.id, what, gesture);
}

export function addSend(workspace: Workspace, strip: Strip, target: string): void {
  const send = { id: newId(), target, level_db: -10, pre: false };
  void workspace.edit({ op: 'add_send', strip_id: strip.id, send });
}

/** Whether a detector on a strip listens to something outside its own signal. */
export const isKeyed = (strip: Strip) => [...everyStep(strip.path.steps)].some((step) => step.key);
