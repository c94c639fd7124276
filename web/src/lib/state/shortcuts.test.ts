import { expect, test } from 'vitest';
import { keyOf, SHORTCUTS, Shortcuts } from './shortcuts.svelte';

const store = () => {
  const stored = new Map<string, string>();
  return {
    getItem: (name: string) => stored.get(name) ?? null,
    setItem: (name: string, value: string) => void stored.set(name, value),
  };
};
const press = (key: string, more: Partial<KeyboardEvent> = {}) =>
  keyOf({ key, ctrlKey: false, metaKey: false, altKey: false, shiftKey: false, ...more } as KeyboardEvent);

test('no two shortcuts have the same key', () => {
  const keys = SHORTCUTS.map((shortcut) => shortcut.key);
  expect(new Set(keys).size).toBe(keys.length);
});

test('keys are named as they are written, signs without the Shift they need', () => {
  expect([press('b'), press('B', { shiftKey: true }), press(' '), press('?', { shiftKey: true })]).toEqual([
    'B',
    'Shift+B',
    'Space',
    '?',
  ]);
  expect(press('z', { ctrlKey: true, shiftKey: true })).toBe('Ctrl+Shift+Z');
  expect(press('*', { shiftKey: true })).toBe('*');
});

test('a sign that a keyboard writes with AltGr is that sign', () => {
  const graph = { ctrlKey: true, altKey: true, getModifierState: (name: string) => name === 'AltGraph' };
  expect([press('[', graph), press(']', graph)]).toEqual(['[', ']']);
  expect(press('b', { ...graph, getModifierState: () => false })).toBe('Ctrl+Alt+B');
});

test('a key can be changed, is kept, and does one thing only', () => {
  const kept = store();
  const shortcuts = new Shortcuts(kept);
  expect(shortcuts.assign('mute', 'S')).toMatch(/Solo/);
  expect(shortcuts.assign('mute', 'Escape')).toMatch(/cannot be changed/);
  expect(shortcuts.assign('mute', 'J')).toBeNull();
  expect([shortcuts.idFor('J'), shortcuts.idFor('M')]).toEqual(['mute', null]);
  const again = new Shortcuts(kept);
  expect(again.keyFor('mute')).toBe('J');
  expect(again.assign('solo', 'M')).toBeNull();
  again.reset();
  expect([again.idFor('M'), again.idFor('S')]).toEqual(['mute', 'solo']);
});
