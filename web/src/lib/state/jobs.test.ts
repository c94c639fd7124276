import { beforeEach, expect, test, vi } from 'vitest';
import { Refused, type ImportView, type JobView } from '../api/client';
import { Jobs, type JobApi } from './jobs.svelte';
import { Notices } from './notices.svelte';

const job = (state: JobView['state'], more: Partial<JobView> = {}): JobView => ({
  id: 1,
  session_id: 7,
  kind: 'import',
  title: '2 files',
  state,
  progress: 0,
  seconds_left: null,
  rough: true,
  error: null,
  files: [],
  warnings: [],
  ...more,
});
const view: ImportView = {
  id: 3,
  strip_ids: ['a'],
  problems: [],
  notes: [],
  proposals: [],
  passage_s: [0, 9],
};
const file = (name: string) => new File(['....'], name);

let kept: Map<string, string>;
beforeEach(() => {
  kept = new Map();
  vi.stubGlobal('sessionStorage', {
    getItem: (name: string) => kept.get(name) ?? null,
    setItem: (name: string, value: string) => kept.set(name, value),
    removeItem: (name: string) => kept.delete(name),
  });
});

/** A server that answers as it is told. */
function served(states: JobView[][]): { api: JobApi; sent: string[]; dropped: number[] } {
  const [sent, dropped]: [string[], number[]] = [[], []];
  return {
    sent,
    dropped,
    api: {
      jobs: vi.fn(async () => (states.length > 1 ? states.shift()! : states[0]!)),
      cancel: vi.fn(async () => undefined),
      newImport: vi.fn(async () => view),
      sendFile: async (_, __, place, { name }, progress, signal) => {
        if (signal.aborted) throw new Refused(0, 'cancelled');
        if (name.startsWith('bad')) throw new Refused(422, `${name}: the file is empty; export it again`);
        progress(1);
        sent.push(`${place} ${name}`);
      },
      finishImport: vi.fn(async () => job('waiting')),
      importView: vi.fn(async () => view),
      dropImport: async (_, number) => dropped.push(number),
      batch: vi.fn(async () => job('waiting', { kind: 'batch' })),
    },
  };
}

test('files are sent in their order, refused ones are named, and the others become tracks', async () => {
  const { api, sent } = served([[job('running')], [job('done', { warnings: ['late.wav: it is cut off'] })]]);
  const notices = new Notices();
  const jobs = new Jobs(api, notices);
  jobs.open(7);
  expect(await jobs.import([file('b.wav'), file('bad.wav'), file('a.wav')], 'name', true)).toEqual(view);
  expect(api.newImport).toHaveBeenCalledWith(7, {
    names: ['b.wav', 'bad.wav', 'a.wav'],
    order: 'name',
    rate: 'files',
  });
  expect(sent).toEqual(['0 b.wav', '2 a.wav']);
  expect(notices.list.map((notice) => notice.text)).toEqual([
    'bad.wav: the file is empty; export it again',
    'late.wav: it is cut off',
  ]);
  expect(jobs.uploads).toEqual([]);
});

test('a failed job is said once and gives nothing', async () => {
  const { api } = served([[job('failed', { error: 'the disk is full' })]]);
  const notices = new Notices();
  const jobs = new Jobs(api, notices);
  jobs.open(7);
  expect(await jobs.import([file('a.wav')], 'given', false)).toBeNull();
  await jobs.poll();
  expect(notices.list.map((notice) => notice.text)).toEqual(['the disk is full']);
});

test('where no file could be taken, the import is dropped', async () => {
  const { api, dropped } = served([[]]);
  const jobs = new Jobs(api, new Notices());
  jobs.open(7);
  expect(await jobs.import([file('bad.wav')], 'name', false)).toBeNull();
  expect(api.finishImport).not.toHaveBeenCalled();
  await Promise.resolve();
  expect(dropped).toEqual([3]);
});

test('cancelling stops what is still to be sent', async () => {
  const { api, dropped, sent } = served([[]]);
  const jobs = new Jobs(
    {
      ...api,
      sendFile: (_, __, ___, { name }, ____, signal) =>
        new Promise((_, refuse) => {
          sent.push(name);
          signal.addEventListener('abort', () => refuse(new Refused(0, 'cancelled')));
        }),
    },
    new Notices(),
  );
  jobs.open(7);
  const done = jobs.import([file('a.wav'), file('b.wav')], 'name', false);
  await vi.waitFor(() => expect(sent).toEqual(['a.wav']));
  jobs.uploads[0]!.cancel();
  expect(await done).toBeNull();
  expect(sent).toEqual(['a.wav']);
  await Promise.resolve();
  expect(dropped).toEqual([3]);
});

test('what was being sent when the page was left is named by the next one, and dropped', async () => {
  const { api, dropped } = served([[]]);
  const left = new Jobs({ ...api, sendFile: () => new Promise(() => undefined) }, new Notices());
  left.open(7);
  void left.import([file('a.wav'), file('b.wav')], 'name', false);
  await vi.waitFor(() => expect(left.sending).toBe(true));
  const notices = new Notices();
  const jobs = new Jobs(api, notices);
  jobs.open(9);
  expect(notices.list.map(({ text }) => text)).toEqual([
    '2 files were not imported, as the page was left while sending: import again (a.wav, b.wav).',
  ]);
  expect(dropped).toEqual([3]);
  jobs.open(7);
  expect(notices.list).toHaveLength(1);
  left.close();
  jobs.close();
});

test('files of a batch are sent and processed, and become no tracks', async () => {
  const { api, sent } = served([[], [job('done', { kind: 'batch', files: ['a.flac', 'batch.csv'] })]]);
  const notices = new Notices();
  const jobs = new Jobs(api, notices);
  jobs.open(7);
  const request = { strip_id: 'main', format: 'flac24', loudness_lufs: -19 };
  const ended = await jobs.batch([file('a.wav'), file('bad.wav')], request);
  expect(ended?.files).toEqual(['a.flac', 'batch.csv']);
  expect(sent).toEqual(['0 a.wav']);
  expect(notices.list.map(({ text }) => text)).toEqual(['bad.wav: the file is empty; export it again']);
  expect(api.batch).toHaveBeenCalledWith(7, { ...request, import_id: 3 });
  expect(api.finishImport).not.toHaveBeenCalled();
  jobs.close();
});
