/** For tests: sessions in small, and a workspace that notes what it was asked to do. */
import { vi } from 'vitest';
import type { Edit, Lane, Session, Setting, Step, Strip, Version } from '../api/client';
import { Described } from './described.svelte';
import { Selection } from './selection.svelte';
import type { Workspace } from './workspace.svelte';

export const step = (id: string, more: Partial<Step> = {}): Step =>
  ({ id, kind: 'compressor', bypass: false, settings: {}, ...more }) as Step;
export const lane = (id: string, steps: Step[] = [], more: Partial<Lane> = {}): Lane =>
  ({ id, name: id, level_db: 0, mute: false, solo: false, linked: false, path: { steps }, ...more }) as Lane;
export const split = (id: string, lanes: Lane[], settings: Step['settings'] = { by: 'copies' }): Step =>
  step(id, { kind: 'split', settings, lanes });
export const strip = (id: string, steps: Step[] = [], more: Partial<Strip> = {}): Strip =>
  ({
    id,
    name: id,
    kind: id === 'main' ? 'main' : id.startsWith('bus') ? 'bus' : 'track',
    output: id === 'main' ? null : 'main',
    level_db: 0,
    mute: false,
    solo: false,
    sends: [],
    path: { steps },
    ...more,
  }) as unknown as Strip;
export const session = (strips: Strip[], more: Partial<Session> = {}): Session =>
  ({ name: 'S', tempo_bpm: 120, beats_in_bar: 4, bar_one_s: 0, rate_hz: 48000, sections: [], levers: [], strips, ...more }) as unknown as Session; // prettier-ignore
export const version = (of: Session, more: Partial<Version> = {}): Version =>
  ({
    id: 1,
    revision: 1,
    session: of,
    routing: {},
    plates: {},
    resolved: {},
    sums: {},
    moving: [],
    notices: [],
    length_s: 60,
    ...more,
  }) as unknown as Version;
export const range = (name: string, minimum: number, maximum: number): Setting =>
  ({
    name,
    label: name,
    type: 'number',
    unit: 'dB',
    scale: 'linear',
    moves: 'glides',
    minimum,
    maximum,
  }) as Setting;

/** edits: what was asked for; notes: what was said. */
export function noting(of: Session) {
  const edits: Edit[] = [];
  const notes: string[] = [];
  const described = new Described();
  described.settings = { strip: [range('level_db', -90, 12)], lane: [range('level_db', -90, 24)] };
  const undo = vi.fn();
  const workspace = {
    session: of,
    version: version(of),
    tab: 'tab',
    described,
    selection: new Selection(() => of, vi.fn()),
    edit: (edit: Edit) => (edits.push(edit), Promise.resolve()),
    move: (owner: string, id: string, values: object) =>
      edits.push({ op: 'move', of: owner, id, values } as never),
    note: (text: string) => void notes.push(text),
    attempt: <T>(work: () => Promise<T>) => work(),
    storing: <T>(work: () => Promise<T>) => work(),
    reorder: (edit: Edit) => (edits.push(edit), Promise.resolve()),
    listening: { passage: { start_s: 0, end_s: 1 }, order: null },
    measuring: { nextNumber: () => 1 },
    history: { undo, offer: () => ({ label: 'Undo', run: undo }) },
  } as unknown as Workspace;
  return { workspace, edits, notes, undo };
}

/** A browser's memory that is empty when the test begins. */
export function emptyStorage(): void {
  const kept = new Map<string, string>();
  vi.stubGlobal('localStorage', {
    getItem: (name: string) => kept.get(name) ?? null,
    setItem: (name: string, value: string) => kept.set(name, value),
  });
}
