/** The server's routes, typed by its schema. */
import type { components } from './schema';

type Schemas = components['schemas'];
export type Resonance = Required<Schemas['Resonance']>;
export type SettingValue = Schemas['Descriptor']['default'];
export type Key = Required<Omit<Schemas['Key'], 'envelopes'>> & { envelopes?: Envelopes };
export type Send = Required<Omit<Schemas['Send'], 'envelopes'>> & { envelopes?: Envelopes };
export type Stretch = Schemas['Stretch'];
export type Match = Required<Schemas['Match']>;
/** A lane or a step as the session has it; what does not belong to a kind of step is left out. */
export type Path = { steps: Step[]; levers?: Lever[]; slots?: Schemas['Path-Output']['slots'] };
/** A setting's course over the session, and what of it has one. */
export type Breakpoint = Required<Schemas['Breakpoint']>;
export type Envelope = Required<Omit<Schemas['Envelope'], 'points'>> & { points: Breakpoint[] };
export type Envelopes = Record<string, Envelope>;
export type LeverTarget = Required<Schemas['LeverTarget']>;
export type Lever = Required<Omit<Schemas['Lever'], 'envelopes' | 'targets'>> & {
  targets: LeverTarget[];
  envelopes?: Envelopes;
};
export type MovingValue = Schemas['MovingValue'];
export type Lane = Required<Omit<Schemas['Lane-Output'], 'path' | 'slots' | 'envelopes'>> & {
  envelopes?: Envelopes;
  path: Path;
  slots?: Schemas['Lane-Output']['slots'];
};
export type Step = Required<Pick<Schemas['Step-Output'], 'id' | 'kind' | 'bypass'>> & {
  settings: Record<string, SettingValue>;
  low_latency?: boolean;
  envelopes?: Envelopes;
  key?: Key | null;
  lanes?: Lane[];
  match?: Match | null;
  match_over?: Stretch;
  slots?: Schemas['Step-Output']['slots'];
};
export type KeySource = Omit<Schemas['KeySource'], 'key'> & { key: Key };
export type KeyGroup = Omit<Schemas['KeyGroup'], 'sources'> & { sources: KeySource[] };
/** What an edit is about. */
export type EditPart = NonNullable<Schemas['UndoRequest']['part']>;
export type Routing = Schemas['Routing'];
export type StripRouting = Schemas['StripRouting'];
export type Strip = Required<Omit<Schemas['Strip-Output'], 'path' | 'sends' | 'envelopes'>> & {
  envelopes?: Envelopes;
  path: Path;
  sends: Send[];
};
export type Section = Required<Schemas['Section']>;
export type Session = Required<Omit<Schemas['Session'], 'strips' | 'sections' | 'levers' | 'delivery'>> & {
  delivery: Delivery;
  levers: Lever[];
  strips: Strip[];
  sections: Section[];
};
/** What the server answers; of an answer that goes on from a known version only what changed (see `merged`). */
export type VersionAnswer = Omit<Schemas['VersionView'], 'session'> & { session: Session };
export type Version = VersionAnswer & { routing: Routing };
export type SessionRow = Schemas['SessionRow'];
export type ScopeAnswer = Schemas['ScopeAnswer'];
export type OverviewAnswer = Schemas['OverviewAnswer'];
export type Figures = Schemas['Figures'];
/** What a figure is called and how it is shown. */
export type Figure = Schemas['Figure'];
export type Spectrum = Schemas['Spectrum'];
export type Preset = Schemas['PresetView'];
export type Bands = Schemas['Bands'];
export type HistoryView = Schemas['HistoryView'];
export type SlotsCompared = Required<Schemas['SlotsCompared']>;
export type SlotDifference = Required<Schemas['Difference']>;
export type SlotLoudness = Schemas['SlotLoudness'];
export type LaneFigures = Schemas['LaneFigures'];
export type PathStart = {
  name: string;
  listen: string;
  path: { steps: Step[]; levers?: Lever[] };
  words?: readonly string[];
};
export type BenchResult = Required<Schemas['Result']>;
export type BenchQuestion = Schemas['BenchQuestion'];
export type BenchTest = BenchResult['test'];
export type JobView = Schemas['JobView'];
export type ImportView = Schemas['ImportView'];
export type MediaFacts = Schemas['MediaFacts'];
export type TempoAnswer = Schemas['TempoAnswer'];
/** A delivery as it is set up, and what comes of it. */
export type Tags = Required<Schemas['Tags']>;
export type Delivery = Required<Omit<Schemas['Delivery'], 'tags' | 'origin'>> & {
  tags: Tags;
  origin: Required<Schemas['Origin']>;
};
export type DeliveryOptions = Schemas['DeliveryOptions'];
export type FormatView = Schemas['FormatView'];
export type FileNames = Required<Schemas['FileNames']>;
export type CheckView = Omit<Schemas['CheckView'], 'checked'> & { checked: DeliveryCheck | null };
export type CheckedFormat = Schemas['CheckedFormat'];
export type DeliveryCheck = Omit<Schemas['DeliveryCheck'], 'formats'> & { formats: CheckedFormat[] };
export type CeilingRow = Schemas['CeilingRow'];

/** An edit as it is sent; the server checks it. */
export type Edit = Schemas['EditRequest']['edit'];
/** A value for an address: of what, which object, which setting. */
export type Moved = Schemas['Moved'];
export type Owner = Moved['of'];
/** What a value is: label, unit, range, scale, default. */
export type Setting = Schemas['Descriptor'];
export type Processor = Schemas['ProcessorReference'];

/** A name that no other object has. */
export function newId(): string {
  return crypto.randomUUID().replaceAll('-', '').slice(0, 12);
}

/** Sections against loudness, of one scope or several. */
export type ContrastAnswer = Schemas['ContrastAnswer'];
export type ContrastScope = Schemas['ContrastScope'];
export type Contrast = Schemas['Contrast'];
export type SectionContrast = Schemas['SectionContrast'];

/** A figure that can be asked for. */
export type Aim = Schemas['AimReference'];
/** A blind comparison under way, and what came of one. */
export type BlindView = Schemas['BlindView'];
export type BlindResult = Schemas['BlindResult'];
export type BlindCandidate = Schemas['Candidate'];

/** What the server refused, in its words. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    message: string,
  ) {
    super(message);
  }
}

async function ask<T>(method: string, path: string, body?: unknown, signal?: AbortSignal): Promise<T> {
  let response: Response;
  try {
    response = await fetch(path, {
      method,
      signal,
      headers: body === undefined ? {} : { 'content-type': 'application/json' },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch (error) {
    if (error instanceof DOMException) throw error;
    throw new Refused(
      0,
      'The server does not answer. Is it still running? Nothing you did before this is lost.',
    );
  }
  if (!response.ok) {
    const problem = (await response.json().catch(() => null)) as { detail?: unknown } | null;
    throw new Refused(
      response.status,
      typeof problem?.detail === 'string' ? problem.detail : response.statusText,
    );
  }
  if (response.status === 204) return undefined as T;
  const text = response.headers.get('content-type')?.startsWith('text/');
  return (await (text ? response.text() : response.json())) as T;
}

const session = (id: number) => `/api/sessions/${id}`;

export const api = {
  processors: () => ask<Processor[]>('GET', '/api/processors'),
  settings: () => ask<Record<Owner, Setting[]>>('GET', '/api/settings'),
  sessions: () => ask<SessionRow[]>('GET', '/api/sessions'),
  open: (id: number) => ask<Version>('GET', session(id)),
  create: (request: { name: string; rate_hz: number; tempo_bpm: number; beats_in_bar: number }) =>
    ask<Version>('POST', '/api/sessions', request),
  demo: (name: string) => ask<JobView>('POST', '/api/sessions/demo', { name }),
  job: (number: number) => ask<JobView>('GET', `/api/jobs/${number}`),
  duplicate: (id: number) => ask<Version>('POST', `${session(id)}/duplicate`),
  remove: (id: number) => ask<undefined>('DELETE', session(id)),
  restore: (id: number) => ask<undefined>('POST', `${session(id)}/restore`),
  /** number: of the move that was heard already; since: the revision the page has. */
  edit: (
    id: number,
    request: { edit: Edit; gesture: string | null; number: number },
    tab: string,
    since: number,
  ) => ask<VersionAnswer>('POST', `${session(id)}/edits`, { ...request, tab, since }),
  undo: (id: number, tab: string, since: number, part: EditPart | null = null) =>
    ask<VersionAnswer>('POST', `${session(id)}/undo`, { tab, since, part }),
  redo: (id: number, tab: string, since: number, part: EditPart | null = null) =>
    ask<VersionAnswer>('POST', `${session(id)}/redo`, { tab, since, part }),
  history: (id: number) => ask<HistoryView>('GET', `${session(id)}/history`),
  goTo: (id: number, position: number, tab: string, since: number) =>
    ask<VersionAnswer>('POST', `${session(id)}/history`, { position, tab, since }),
  slotFrom: (id: number, request: Schemas['SlotRequest']) =>
    ask<VersionAnswer>('POST', `${session(id)}/history/slot`, request),
  keySources: (id: number, step: string) =>
    ask<KeyGroup[]>('GET', `${session(id)}/keys?step_id=${encodeURIComponent(step)}`),
  studyScope: (id: number, question: Schemas['ScopeQuestion']) =>
    ask<ScopeAnswer | null>('POST', `${session(id)}/studies/scope`, question),
  studyOverview: (id: number, question: Schemas['OverviewQuestion']) =>
    ask<OverviewAnswer | null>('POST', `${session(id)}/studies/overview`, question),
  studySpectrum: (id: number, question: Schemas['SpectrumQuestion']) =>
    ask<Schemas['SpectrumAnswer'] | null>('POST', `${session(id)}/studies/spectrum`, question),
  studyBands: (id: number, question: Schemas['PassageQuestion']) =>
    ask<Schemas['BandsAnswer'] | null>('POST', `${session(id)}/studies/bands`, question),
  slots: (id: number, of: 'step' | 'lane' | 'strip', owner: string) =>
    ask<SlotsCompared>('GET', `${session(id)}/slots?of=${of}&id=${encodeURIComponent(owner)}`),
  studySlots: (id: number, question: Schemas['SlotsQuestion']) =>
    ask<Schemas['SlotsAnswer'] | null>('POST', `${session(id)}/studies/slots`, question),
  studyOrder: (id: number, question: Schemas['OrderQuestion']) =>
    ask<Schemas['OrderAnswer'] | null>('POST', `${session(id)}/studies/order`, question),
  studyContrast: (id: number, question: Schemas['ContrastQuestion'], signal: AbortSignal) =>
    ask<ContrastAnswer | null>('POST', `${session(id)}/studies/contrast`, question, signal),
  contrastCsv: (id: number, question: Schemas['ContrastQuestion']) =>
    ask<string>('POST', `${session(id)}/studies/contrast/csv`, question),
  figures: () => ask<Figure[]>('GET', '/api/figures'),
  aims: () => ask<Record<'strip' | 'lane', Aim[]>>('GET', '/api/aims'),
  studyAim: (id: number, question: Schemas['AimQuestion'], signal: AbortSignal) =>
    ask<Schemas['AimAnswer'] | null>('POST', `${session(id)}/studies/aim`, question, signal),
  studyStart: (id: number, question: Schemas['StartQuestion'], signal: AbortSignal) =>
    ask<Schemas['StartAnswer'] | null>('POST', `${session(id)}/studies/start`, question, signal),
  presentFigure: (id: number, question: Schemas['AimQuestion']) =>
    ask<Schemas['PresentFigure'] | null>('POST', `${session(id)}/studies/aim/now`, question),
  studyResonances: (id: number, question: Schemas['ResonancesQuestion'], signal: AbortSignal) =>
    ask<Schemas['ResonancesAnswer'] | null>('POST', `${session(id)}/studies/resonances`, question, signal),
  startBlind: (id: number, question: Schemas['BlindQuestion']) =>
    ask<BlindView | null>('POST', `${session(id)}/blind`, question),
  answerBlind: (id: number, tab: string, letter: string) =>
    ask<BlindView>('POST', `${session(id)}/blind/answer`, { tab, letter }),
  endBlind: (id: number, tab: string) =>
    ask<BlindView>('DELETE', `${session(id)}/blind?tab=${encodeURIComponent(tab)}`),
  blindResults: (id: number) => ask<Schemas['BlindResults']>('GET', `${session(id)}/blind`),
  giveBack: (id: number, question: Schemas['PassageQuestion']) =>
    ask<Schemas['LaneLevelAnswer'] | null>('POST', `${session(id)}/studies/give-back`, question),
  bench: (id: number, question: BenchQuestion, signal?: AbortSignal) =>
    ask<{ revision: number; result: BenchResult } | null>('POST', `${session(id)}/bench`, question, signal),
  /** How far the answer to a question of this tab is, from 0 to 1, and how long it still takes. */
  progress: (id: number, tab: string, kind: 'bench' | 'contrast' | 'aim' | 'resonances' | 'start') =>
    ask<Required<Schemas['Progress']>>(
      'GET',
      `${session(id)}/studies/progress?tab=${encodeURIComponent(tab)}&kind=${kind}`,
    ),
  benchCsv: (id: number, question: BenchQuestion) =>
    ask<string>('POST', `${session(id)}/bench/csv`, question),
  newImport: (
    id: number,
    request: { names: string[]; order: 'name' | 'given'; rate: 'session' | 'files'; replaces?: string },
  ) => ask<ImportView>('POST', `${session(id)}/imports`, request),
  print: (id: number, strip_ids: string[]) => ask<JobView>('POST', `${session(id)}/print`, { strip_ids }),
  splitTrack: (id: number, strip: string) =>
    ask<JobView>('POST', `${session(id)}/strips/${encodeURIComponent(strip)}/split`),
  finishImport: (id: number, number: number) => ask<JobView>('POST', `${session(id)}/imports/${number}`),
  importView: (id: number, number: number) => ask<ImportView>('GET', `${session(id)}/imports/${number}`),
  dropImport: (id: number, number: number) => ask<undefined>('DELETE', `${session(id)}/imports/${number}`),
  media: (id: number) => ask<MediaFacts>('GET', `/api/media/${id}`),
  studyTempo: (id: number, question: Schemas['TempoQuestion']) =>
    ask<TempoAnswer | null>('POST', `${session(id)}/studies/tempo`, question),
  studyParts: (id: number, question: Schemas['PartsQuestion']) =>
    ask<Schemas['PartsAnswer'] | null>('POST', `${session(id)}/studies/parts`, question),
  studyStageGain: (id: number, question: Schemas['StageGainQuestion']) =>
    ask<Schemas['StageGainAnswer'] | null>('POST', `${session(id)}/studies/stage-gain`, question),
  sectionsCsv: (id: number) => ask<string>('GET', `${session(id)}/sections.csv`),
  readSections: (id: number, text: string) =>
    ask<Schemas['PartsAnswer']>('POST', `${session(id)}/sections/read`, { text }),
  pathStarts: () => ask<PathStart[]>('GET', '/api/paths/starts'),
  /** Those of every session, and of one. */
  presets: (kind: string, session: number | null) =>
    ask<Preset[]>('GET', `/api/presets?kind=${kind}${session === null ? '' : `&session_id=${session}`}`),
  savePreset: (preset: {
    kind: string;
    name: string;
    settings: Record<string, unknown>;
    session_id: number | null;
    replace: boolean;
    slots: boolean;
  }) => ask<Preset>('POST', '/api/presets', preset),
  renamePreset: (id: number, name: string) => ask<Preset>('PATCH', `/api/presets/${id}`, { name }),
  removePreset: (id: number) => ask<undefined>('DELETE', `/api/presets/${id}`),
  restorePreset: (id: number) => ask<undefined>('POST', `/api/presets/${id}/restore`),
  exportPresets: (kind: string, session: number | null, ids: number[]) =>
    ask<unknown>(
      'GET',
      `/api/presets/file?kind=${kind}${session === null ? '' : `&session_id=${session}`}${ids.map((id) => `&ids=${id}`).join('')}`,
    ),
  importPresets: (file: unknown) => ask<Preset[]>('POST', '/api/presets/file', file),
  readCurve: (text: string) => ask<{ points: [number, number][] }>('POST', '/api/curve/read', { text }),
  writeCurve: (points: [number, number][]) => ask<{ text: string }>('POST', '/api/curve/csv', { points }),
  deliveryOptions: () => ask<DeliveryOptions>('GET', '/api/delivery/options'),
  deliveryNames: (id: number, request: Schemas['DeliveryRequest']) =>
    ask<FileNames>('POST', `${session(id)}/delivery/names`, request),
  deliveryTime: (id: number, question: Schemas['TimeQuestion']) =>
    ask<Schemas['ExpectedTime'] | null>('POST', `${session(id)}/delivery/time`, question),
  deliver: (id: number, request: Schemas['DeliveryRequest']) =>
    ask<JobView>('POST', `${session(id)}/delivery/files`, request),
  checkDelivery: (id: number, request: Schemas['CheckRequest']) =>
    ask<JobView>('POST', `${session(id)}/delivery/check`, request),
  findCeiling: (id: number, request: Schemas['CheckRequest']) =>
    ask<JobView>('POST', `${session(id)}/delivery/ceiling`, request),
  deliveryCheck: (id: number) => ask<CheckView | null>('GET', `${session(id)}/delivery/check`),
  listenToDelivery: (id: number, tab: string) =>
    ask<{ names: string[] }>('POST', `${session(id)}/delivery/listen`, { tab }),
  leaveDelivery: (id: number, tab: string) =>
    ask<undefined>('DELETE', `${session(id)}/delivery/listen?tab=${encodeURIComponent(tab)}`),
  batch: (id: number, request: Schemas['BatchRequest']) =>
    ask<JobView>('POST', `${session(id)}/delivery/batch`, request),
  pack: (id: number) => ask<JobView>('POST', `${session(id)}/archive`),
  jobs: (id: number) => ask<JobView[]>('GET', `${session(id)}/jobs`),
  cancel: (number: number) => ask<undefined>('DELETE', `/api/jobs/${number}`),
};

/** Send a session file; the job's session is the one made of it. */
export async function sendArchive(file: File): Promise<JobView> {
  const response = await fetch(`/api/archives?name=${encodeURIComponent(file.name)}`, {
    method: 'POST',
    body: file,
  }).catch(() => null);
  const answer = (await response?.json().catch(() => null)) as (JobView & { detail?: string }) | null;
  if (!response || !answer)
    throw new Refused(0, `${file.name}: the server did not take it; is it still running?`);
  if (!response.ok) throw new Refused(response.status, answer.detail ?? response.statusText);
  return answer;
}

/** Send a file's bytes; `progress` is told the fraction that is sent. `signal` stops it. */
export function sendFile(
  id: number,
  number: number,
  place: number,
  file: File,
  progress: (fraction: number) => void,
  signal: AbortSignal,
): Promise<void> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open('PUT', `${session(id)}/imports/${number}/${place}`);
    request.responseType = 'json';
    request.upload.onprogress = (event) => progress(event.total ? event.loaded / event.total : 0);
    request.onload = () => {
      if (request.status < 300) return resolve();
      const problem = request.response as { detail?: string } | null;
      const why = problem?.detail ?? request.statusText;
      reject(new Refused(request.status, why.includes(file.name) ? why : `${file.name}: ${why}`));
    };
    request.onerror = () =>
      reject(new Refused(0, `${file.name}: the server did not take it; is it still running?`));
    request.onabort = () => reject(new Refused(0, `${file.name}: cancelled`));
    signal.addEventListener('abort', () => request.abort());
    if (signal.aborted) request.onabort(new ProgressEvent('abort'));
    else request.send(file);
  });
}
