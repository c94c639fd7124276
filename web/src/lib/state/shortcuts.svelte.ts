/** Keys of the page: what each does, and which one it has. They can be changed in the help; a key does one thing only. */

export interface Shortcut<Id extends string = string> {
  id: Id;
  key: string;
  what: string;
  group: 'Play' | 'Listen' | 'Path' | 'Strips' | 'Timeline' | 'Page';
}

const list = <const Id extends string>(
  group: Shortcut['group'],
  rows: readonly (readonly [Id, string, string])[],
): Shortcut<Id>[] => rows.map(([id, key, what]) => ({ id, key, what, group }));

export const SHORTCUTS = [
  ...list('Play', [
    ['play', 'Space', 'Play or stop'],
    ['loop', 'L', 'Loop the passage on or off'],
  ]),
  ...list('Listen', [
    ['before', 'Z', 'Before; in Deliver the master'],
    ['after', 'X', 'After; in Deliver what the decoder gives back'],
    ['difference', 'C', 'Difference; in Deliver of master and decoded'],
    ['matched', 'E', 'Loudness-matched on or off'],
    ['blind', 'T', 'Compare blind: before, after, slots, orders'],
    ['key', 'G', 'Listen to key'],
    ['solo lane', 'O', 'Solo lane, for listening only'],
  ]),
  ...list('Path', [
    ['add', 'A', 'Add a step'],
    ['aim', 'I', 'Aim: ask for a result and have the setting found'],
    ['bypass', 'B', 'Bypass the step, the lane, or the chosen steps'],
    ['bypass all', 'Shift+B', 'Bypass the whole path'],
    ['swap', 'R', 'Swap the step with its neighbour, both orders at equal loudness'],
    ['parallel', 'P', 'Put the steps in parallel'],
    ['bands', 'F', 'Split the steps into bands'],
    ['mid/side', 'W', 'Split the steps into mid/side'],
    ['remove split', 'U', 'Remove the split, keep its steps'],
    ['copy', 'Ctrl+C', 'Copy the steps'],
    ['paste', 'Ctrl+V', 'Paste steps'],
    ['duplicate', 'Ctrl+D', 'Duplicate the steps'],
    ['slot 1', '1', 'Switch to slot 1 of the chosen step, lane or strip; in Deliver the first format'],
    ['slot 2', '2', 'Switch to slot 2'],
    ['slot 3', '3', 'Switch to slot 3'],
    ['slot 4', '4', 'Switch to slot 4'],
    ['store 1', 'Shift+1', 'Store what you hear into slot 1'],
    ['store 2', 'Shift+2', 'Store into slot 2'],
    ['store 3', 'Shift+3', 'Store into slot 3'],
    ['store 4', 'Shift+4', 'Store into slot 4'],
    ['remove', 'Delete', 'Remove the chosen steps, strips or sections'],
  ]),
  ...list('Strips', [
    ['solo', 'S', 'Solo the chosen strip or lane'],
    ['mute', 'M', 'Mute the chosen strip or lane'],
    ['bus', 'Ctrl+B', 'Group the chosen strips to a bus'],
    ['find strip', '/', 'Find a strip by its name'],
  ]),
  ...list('Timeline', [
    ['back', ',', 'Playhead one bar back'],
    ['forward', '.', 'Playhead one bar forward'],
    ['to start', 'Home', 'Playhead to the start of the passage'],
    ['passage start', '[', 'Passage starts at the playhead'],
    ['passage end', ']', 'Passage ends at the playhead'],
    ['previous section', 'PageUp', 'Passage: the section before'],
    ['next section', 'PageDown', 'Passage: the section after'],
    ['split section', 'K', 'Split the section at the playhead'],
    ['zoom in', '+', 'Zoom in on the timeline'],
    ['zoom out', '-', 'Zoom out'],
    ['zoom passage', '*', 'Zoom to the passage'],
    ['zoom all', '0', 'Zoom to the whole song'],
    ['snap', 'N', 'Snap to beats on or off'],
    ['over time', 'Y', 'What moves over time: lanes and levers'],
  ]),
  ...list('Page', [
    ['view', 'V', 'Next view'],
    ['view back', 'Shift+V', 'Previous view'],
    ['undo', 'Ctrl+Z', 'Undo'],
    ['redo', 'Ctrl+Shift+Z', 'Redo'],
    ['history', 'H', 'History: all edits in words'],
    ['help', '?', 'Help and shortcuts'],
  ]),
];

/** Each has its act in `actions.ts`. */
export type ShortcutId = (typeof SHORTCUTS)[number]['id'];

/** What is done elsewhere than by a key of the page; for the help. */
export const GESTURES: readonly (readonly [string, string])[] = [
  [
    'Arrows',
    'Walk the path, in and out of lanes, and the strips; left and right fold a bus and go to its parts',
  ],
  ['F6', 'From part to part of the page; with Shift back'],
  ['Alt with arrows', 'Move the steps or the strips'],
  ['Shift or Ctrl and click', 'Choose several steps or strips'],
  [
    'On a setting',
    'Arrows, Shift fine, Ctrl coarse; the wheel while it has the focus, or with Ctrl; type a value (after Enter, while slots are in use); double-click for the default; right click or the Menu key: over time',
  ],
  ['On a divider', 'Drag, with Shift all of them; arrows; Delete removes; double-click beside one adds one'],
  ['On the level picture', 'Wheel zooms, double-click shows the whole passage'],
  ['On the timeline', 'Click sets the playhead, drag sets the passage, wheel zooms, Shift and wheel scrolls'],
  [
    'In a lane over time',
    'Click adds a point, drag moves it, Delete removes it, Shift and drag chooses a stretch; arrows move, Shift fine, Enter types',
  ],
  ['On the map', 'Arrows from plate to plate, K connects, Enter opens in Shape, Delete removes a line'],
  ['On the bench', 'K pins the result'],
];

/** The key of an event as it is written here; of a sign that needs Shift, the sign alone. */
export function keyOf(event: KeyboardEvent): string {
  const key = event.key === ' ' ? 'Space' : event.key.length === 1 ? event.key.toUpperCase() : event.key;
  // With Shift a digit's key has another sign on every keyboard: the digit counts, where it is no sign of a shortcut itself.
  const digit = /^Digit(\d)$/.exec(event.code ?? '')?.[1];
  if (event.shiftKey && digit && '1234'.includes(digit) && !event.ctrlKey && !event.altKey)
    return `Shift+${digit}`;
  const letter = /^[A-Z]$/.test(key) || key.length > 1;
  // On many keyboards [ and ] need AltGr, which counts as Ctrl and Alt on some systems: the sign alone is meant.
  const graph = event.getModifierState?.('AltGraph') && key.length === 1 && !/^[A-Z0-9]$/.test(key);
  return [
    !graph && (event.ctrlKey || event.metaKey) ? 'Ctrl+' : '',
    !graph && event.altKey ? 'Alt+' : '',
    event.shiftKey && letter ? 'Shift+' : '',
    key,
  ].join('');
}

const STORED = 'saltanvil.shortcuts';

export class Shortcuts {
  /** Those that were changed. */
  private changed = $state<Record<string, string>>({});

  constructor(
    private readonly store: Pick<Storage, 'getItem' | 'setItem'> | undefined = globalThis.localStorage,
  ) {
    try {
      this.changed = JSON.parse(store?.getItem(STORED) ?? '{}') as Record<string, string>;
    } catch {
      this.changed = {};
    }
  }

  keyFor(id: string): string {
    return this.changed[id] ?? SHORTCUTS.find((shortcut) => shortcut.id === id)?.key ?? '';
  }

  idFor(key: string): ShortcutId | null {
    return SHORTCUTS.find((shortcut) => this.keyFor(shortcut.id) === key)?.id ?? null;
  }

  /** Give a shortcut another key; returns why not, if it cannot have it. */
  assign(id: string, key: string): string | null {
    if (
      ['Escape', 'Tab', 'Enter', 'Shift', 'Control', 'Alt', 'Meta'].includes(key) ||
      key.startsWith('Arrow')
    )
      return `${key} cannot be changed: dialogs and lists need it.`;
    const other = this.idFor(key);
    if (other !== null && other !== id)
      return `${key} is "${SHORTCUTS.find((shortcut) => shortcut.id === other)!.what}"; change that one first.`;
    this.changed = { ...this.changed, [id]: key };
    this.store?.setItem(STORED, JSON.stringify(this.changed));
    return null;
  }

  reset(): void {
    this.changed = {};
    this.store?.setItem(STORED, '{}');
  }

  get anyChanged(): boolean {
    return Object.keys(this.changed).length > 0;
  }
}

export const shortcuts = new Shortcuts();
