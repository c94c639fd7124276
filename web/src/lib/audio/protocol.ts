/** What the page, the socket's worker and the worklet say to each other. */

import type { QueuedBlock } from './block-queue';

/** The header of a block: figures of the sound that starts at `position_s`. */
export interface BlockHeader {
  epoch: number;
  sequence: number;
  /** How often the play was rewound, and the first block of this version. */
  version: number;
  seam: number;
  frames: number;
  position_s: number;
  strips: Record<string, [number, number]>;
  steps: Record<string, number>;
  gate_states: Record<string, string>;
  lanes: Record<string, number>;
  /** Peak of what each send brings; loudest level at each detector with an outside key. */
  sends: Record<string, number>;
  keys: Record<string, number>;
  reduction_db: number[];
  detector_db: number;
  main_peaks_dbfs: [number, number];
  main_true_peaks_dbtp: [number, number];
  momentary_lufs: number;
  short_term_lufs: number;
  lead_s: number;
  latency_s: number;
  /** Whether the play began as a render of the song sounds there. */
  exact: boolean;
}

/** From the worker to the worklet. */
export type ToWorklet =
  | ({ type: 'block'; epoch: number } & QueuedBlock)
  | { type: 'epoch'; epoch: number }
  | { type: 'last'; epoch: number }
  | { type: 'reset' };

/** From the worklet to the worker: what was heard so far. `sequence` is the block now sounding. */
export interface Heard {
  epoch: number;
  frames: number;
  sequence: number;
  offset: number;
  underruns: number;
  /** Replacements that came too late. */
  late: number;
}

/** From the worker to the page. */
export type FromWorker =
  | { type: 'open' }
  | { type: 'lost'; reason: string; final: boolean }
  | { type: 'message'; message: ServerMessage }
  | {
      type: 'heard';
      header: BlockHeader;
      position_s: number;
      frames: number;
      underruns: number;
      energy: number;
    };

export type ServerMessage =
  | { type: 'playing'; epoch: number }
  | { type: 'stopped'; epoch: number }
  | { type: 'ended'; epoch: number }
  | { type: 'failed'; why: string }
  /** An edit that was tried cannot be made. */
  | { type: 'refused'; why: string }
  | { type: 'version'; revision: number }
  | { type: 'measuring'; steps: string[] };

/** From the page to the worker. */
export type ToWorker =
  | { type: 'connect'; url: string; port: MessagePort; rate: number }
  | { type: 'send'; message: Record<string, unknown> }
  | { type: 'close' };
