import { beforeEach, expect, test, vi } from 'vitest';
import type { Edit, Step, VersionAnswer } from '../api/client';
import { emptyStorage, range, session, step, strip, version } from './testing';
import { Workspace } from './workspace.svelte';

/** The connection that sounds: what it was sent, and how it is answered. */
const sockets: {
  sent: Record<string, unknown>[];
  listener: { message: (said: object) => void; opened: () => void };
}[] = [];
vi.mock('../audio/audition', () => ({
  Audition: vi.fn(function (_id: number, _tab: string, _rate: number, listener: never) {
    const sent: Record<string, unknown>[] = [];
    sockets.push({ sent, listener });
    return { send: (said: never) => sent.push(said), wake: () => Promise.resolve(), close: vi.fn() };
  }),
}));

/** A server with one session, that takes edits as they come. */
function served() {
  const stored = {
    now: version(session([strip('main'), strip('Snare', [step('c', { settings: { ratio: 2 } })])])),
  };
  const asked: { path: string; body: Record<string, unknown> | null }[] = [];
  const refuse = { next: null as [number, string] | null };
  const answer = (body: unknown, status = 200) =>
    new Response(JSON.stringify(body), { status, headers: { 'content-type': 'application/json' } });
  const routes: Record<string, (body: Record<string, unknown>) => unknown> = {
    '/api/sessions': () => [{ id: 1, name: 'S', deleted: false, changed_at: 0 }],
    '/api/sessions/1': () => stored.now,
    '/api/sessions/1/edits': (body) => edited(body['edit'] as Edit, body['since'] as number),
    '/api/sessions/1/undo': () => ({ ...next({ undo: null }), since: null }),
    '/api/processors': () => [
      { kind: 'compressor', label: 'Compressor', listens: true, settings: [], pictures: [] },
    ],
    '/api/settings': () => ({ strip: [range('level_db', -90, 12)] }),
    '/api/aims': () => ({}),
    '/api/figures': () => [
      { name: 'integrated_lufs', tables: ['master', 'sections'] },
      { name: 'plr_db', tables: ['master'] },
    ],
    '/api/paths': () => [],
  };
  const next = (more: object) => (stored.now = { ...stored.now, revision: stored.now.revision + 1, ...more });
  function edited(edit: Edit, since: number): VersionAnswer {
    const strips = stored.now.session.strips.map((one) => structuredClone(one));
    for (const moved of edit.op === 'set' ? edit.values : [])
      for (const one of strips)
        if (one.id === moved.id) Object.assign(one, { [moved.name]: moved.value });
        else
          for (const step of one.path.steps)
            if (step.id === moved.id) step.settings[moved.name] = moved.value as never;
    next({ session: { ...stored.now.session, strips }, undo: 'Ratio' });
    return { ...stored.now, since, strip_ids: strips.map(({ id }) => id) } as never;
  }
  vi.stubGlobal('sessionStorage', { getItem: () => null });
  vi.stubGlobal('fetch', async (path: string, init: RequestInit = {}) => {
    const body = init.body ? (JSON.parse(init.body as string) as Record<string, unknown>) : null;
    asked.push({ path, body });
    const [no, why] = refuse.next && path.endsWith('/edits') ? refuse.next : [0, ''];
    if (no) {
      refuse.next = null;
      return answer({ detail: why }, no);
    }
    const route = routes[path];
    return route ? answer(route(body ?? {})) : answer(null);
  });
  return { stored, asked, refuse, next };
}

beforeEach(() => {
  sockets.length = 0;
  emptyStorage();
  vi.stubGlobal('requestAnimationFrame', (call: () => void) => setTimeout(call, 16));
  vi.stubGlobal('cancelAnimationFrame', (id: number) => clearTimeout(id));
});
const ratio = (workspace: Workspace) =>
  (workspace.session!.strips[1]!.path.steps[0] as Step).settings['ratio'];
async function opened() {
  const server = served();
  const workspace = new Workspace();
  await workspace.start();
  return { ...server, workspace };
}

test('it opens the last session with its snare chosen, and listens to it', async () => {
  const { workspace } = await opened();
  expect(workspace.session!.name).toBe('S');
  expect([workspace.selection.stripId, workspace.selection.stepId]).toEqual(['Snare', 'c']);
  expect(workspace.described.figuresIn('sections').map(({ name }) => name)).toEqual(['integrated_lufs']);
  expect(workspace.described.setting('strip', 'level_db').maximum).toBe(12);
  expect(() => workspace.described.setting('strip', 'colour')).toThrow('describes no colour');
  expect(sockets).toHaveLength(1);
});

test('a session that an address names and that is gone is said, and another opened', async () => {
  served();
  const workspace = new Workspace();
  await workspace.start(99);
  expect(workspace.notices.list.map(({ text }) => text).join()).toContain('not there any more');
  expect(workspace.version!.id).toBe(1);
});

test('an edit shows at once, and is stored', async () => {
  const { workspace, asked } = await opened();
  const done = workspace.edit({ op: 'set', values: [{ of: 'step', id: 'c', name: 'ratio', value: 4 }] });
  expect([ratio(workspace), workspace.saving]).toEqual([4, 1]);
  await done;
  expect([ratio(workspace), workspace.saving, workspace.version!.revision]).toEqual([4, 0, 2]);
  expect(asked.filter(({ path }) => path.endsWith('/edits'))).toHaveLength(1);
});

test('a refused edit goes back to what is stored, in the words of the server', async () => {
  const { workspace, refuse } = await opened();
  refuse.next = [400, 'ratio goes from 1 to 50'];
  await workspace.edit({ op: 'set', values: [{ of: 'step', id: 'c', name: 'ratio', value: 400 }] });
  expect(ratio(workspace)).toBe(2);
  expect(workspace.notices.list.at(-1)!.text).toBe('ratio goes from 1 to 50');
});

test("another tab's edit is read when its revision is told, and an older one is not asked for", async () => {
  const { workspace, stored, next, asked } = await opened();
  next({ session: { ...stored.now.session, name: 'Renamed elsewhere' } });
  sockets[0]!.listener.message({ type: 'version', revision: 2 });
  await vi.waitFor(() => expect(workspace.session!.name).toBe('Renamed elsewhere'));
  const before = asked.length;
  sockets[0]!.listener.message({ type: 'version', revision: 2 });
  await Promise.resolve();
  expect(asked).toHaveLength(before);
});

test('an answer that goes on from another revision than the page has asks for the whole', async () => {
  const { workspace, next } = await opened();
  next({}); // a measured match came between
  await workspace.edit({ op: 'set', values: [{ of: 'step', id: 'c', name: 'ratio', value: 3 }] });
  expect([ratio(workspace), workspace.version!.revision]).toEqual([3, 3]);
});

test('undo waits for what is on its way, and says what it undid', async () => {
  const { workspace, asked } = await opened();
  void workspace.edit({ op: 'set', values: [{ of: 'step', id: 'c', name: 'ratio', value: 4 }] });
  await workspace.history.undo();
  const order = asked.map(({ path }) => path.split('/').at(-1));
  expect(order.indexOf('edits')).toBeLessThan(order.indexOf('undo'));
  expect(workspace.notices.list.at(-1)!.text).toBe('Undone: Ratio');
});

test('a value that something moves goes to what moves it', async () => {
  const { workspace, asked } = await opened();
  const diverted: unknown[] = [];
  workspace.divert = (address, value) => (diverted.push([address.name, value]), true);
  workspace.move('step', 'c', { ratio: 4 });
  expect(diverted).toEqual([['ratio', 4]]);
  expect(asked.some(({ path }) => path.endsWith('/edits'))).toBe(false);
});
