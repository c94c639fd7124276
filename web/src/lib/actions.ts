/** What each shortcut does: one without an act, or an act without a shortcut, is an error of types. */
import { automation } from './state/automation.svelte';
import { delivery } from './state/delivery.svelte';
import { page } from './state/page.svelte';
import { listenToKey, soloLane } from './state/scope';
import { SHORTCUTS, type ShortcutId } from './state/shortcuts.svelte';
import { SLOTS, slots } from './state/slots.svelte';
import { divide, removeSplit, setLane } from './state/splits';
import {
  bypassSteps,
  chosenSteps,
  copySteps,
  duplicateSteps,
  pasteSteps,
  removeSteps,
  swapOrder,
} from './state/steps';
import { bypassPaths, chosenStrips, muteChosen, removeStrips, soloChosen } from './state/strips';
import * as timeline from './state/timeline.svelte';
import { workspace } from './state/workspace.svelte';
import { groupToBus } from './tree/focus';

/** Whether the keys of listening are about a delivery: master, decoded, difference. */
export const compares = (): boolean => page.view === 'deliver' && delivery.canListen;
const slot = (number: (typeof SLOTS)[number]) =>
  compares() ? delivery.chooseNumber(number) : slots.switchTo(number);

const ACTS: Record<ShortcutId, () => unknown> = {
  play: () => workspace.listening.toggle(),
  loop: () => workspace.listening.setLoop(!workspace.listening.loop),
  before: () => (compares() ? delivery.hear('master') : workspace.listening.listenTo('before')),
  after: () => (compares() ? delivery.hear('decoded') : workspace.listening.listenTo('after')),
  difference: () => (compares() ? delivery.hear('difference') : workspace.listening.listenTo('difference')),
  matched: () => workspace.listening.setMatched(!workspace.listening.matched),
  key: () => listenToKey(workspace),
  'solo lane': () => soloLane(workspace),
  add: () => page.add(),
  bypass: () =>
    workspace.selection.lane
      ? setLane(workspace, workspace.selection.lane, { bypass: !workspace.selection.lane.bypass })
      : bypassSteps(workspace, chosenSteps(workspace)),
  'bypass all': () => bypassPaths(workspace),
  swap: () => swapOrder(workspace),
  parallel: () => divide(workspace, 'copies'),
  bands: () => divide(workspace, 'bands', page.bands),
  'mid/side': () => divide(workspace, 'mid/side'),
  'remove split': () => removeSplit(workspace),
  'slot 1': () => slot(1),
  'slot 2': () => slot(2),
  'slot 3': () => slot(3),
  'slot 4': () => slot(4),
  'store 1': () => slots.store(1),
  'store 2': () => slots.store(2),
  'store 3': () => slots.store(3),
  'store 4': () => slots.store(4),
  copy: () => copySteps(workspace),
  paste: () => pasteSteps(workspace),
  duplicate: () => duplicateSteps(workspace),
  remove: () => removeChosen(),
  'find strip': () => {
    const field = document.querySelector<HTMLInputElement>('nav.tree input[type=search]');
    field?.focus();
    field?.select(); // what was looked for before is typed over
  },
  solo: () => soloChosen(workspace),
  mute: () => muteChosen(workspace),
  bus: groupToBus,
  back: () => timeline.step(-1),
  forward: () => timeline.step(1),
  'to start': () => workspace.listening.seek(workspace.listening.passage.start_s),
  'passage start': () => timeline.passageFrom(),
  'passage end': () => timeline.passageTo(),
  'previous section': () => timeline.section(-1),
  'next section': () => timeline.section(1),
  'split section': () => timeline.splitAtPlayhead(),
  'zoom in': () => timeline.zoom(0.5),
  'zoom out': () => timeline.zoom(2),
  'zoom passage': () => timeline.fitPassage(),
  'zoom all': () => timeline.fitAll(),
  snap: () => timeline.toggleSnap(),
  view: () => page.showBeside(1),
  'view back': () => page.showBeside(-1),
  undo: () => workspace.history.undo(page.part),
  redo: () => workspace.history.redo(page.part),
  'over time': () => (automation.listed = true),
  aim: () => (workspace.aimOpen = true),
  blind: () => (workspace.blindOpen = true),
  history: () => (page.dialog = 'history'),
  help: () => (page.dialog = 'help'),
};

/** Sections that are focused, strips in the tree, or else the chosen steps; beside the points of a lane over time nothing. */
function removeChosen(): void {
  const focused = document.activeElement;
  const section = focused?.closest('[data-section]')?.getAttribute('data-section');
  if (section) timeline.remove(section);
  else if (focused?.closest('[data-over-time]')) return;
  else if (focused?.closest('nav.tree')) void removeStrips(workspace, chosenStrips(workspace));
  else removeSteps(workspace);
}

/** What is about the timeline that is seen; in other views these keys are theirs. */
const SEEN_ONLY: ReadonlySet<ShortcutId> = new Set<ShortcutId>([
  'split section',
  'zoom in',
  'zoom out',
  'zoom passage',
  'zoom all',
  'snap',
]);

/** Whether an act is about the steps that are chosen. */
export const aboutSteps = (id: ShortcutId | null): boolean =>
  id !== 'add' && SHORTCUTS.some((shortcut) => shortcut.id === id && shortcut.group === 'Path');

/** The act of a shortcut, if it has one in the view that is shown. */
export function actFor(id: ShortcutId | null): (() => unknown) | null {
  return id === null || (page.view !== 'shape' && SEEN_ONLY.has(id)) ? null : ACTS[id];
}
