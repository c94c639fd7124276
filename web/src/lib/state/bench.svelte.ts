/** The bench: what is asked, what came out, and what is pinned beside it. */
import { api, type BenchQuestion, type BenchResult, type BenchTest } from '../api/client';
import { Asking } from './asking.svelte';
import { labelOf } from './routes';
import { Rest } from './rest';
import { workspace } from './workspace.svelte';

export interface Pin {
  letter: string;
  label: string;
  result: BenchResult;
}

/** Results that are kept beside each other at most. */
const MAX_PINS = 4;
const LETTERS = ['A', 'B', 'C', 'D'];
/** An edit under way is measured when it rests for this long. */
const REST_MS = 250;

class BenchState {
  test = $state<BenchTest>('harmonics');
  frequency_hz = $state(1000);
  level_dbfs = $state(-12);
  low_dbfs = $state(-40);
  burst_ms = $state(400);
  compare = $state(false);
  whole = $state(false);
  result = $state.raw<BenchResult | null>(null);
  revision = $state(0);
  pins = $state.raw<Pin[]>([]);

  readonly asking = new Asking(workspace, 'bench');
  private readonly rest = new Rest();

  /** What is on the bench, in words. */
  get label(): string {
    const { step, lane, strip } = workspace.selection;
    if (step) return labelOf(workspace)(step);
    if (lane) return `lane ${lane.name}`;
    return `${strip?.name ?? ''}${this.whole ? ', whole strip' : ', path'}`;
  }

  question(): BenchQuestion {
    return {
      tab: workspace.tab,
      number: workspace.measuring.nextNumber(),
      ...workspace.selection.scope,
      whole: this.whole,
      test: this.test,
      frequency_hz: this.frequency_hz,
      level_dbfs: this.level_dbfs,
      low_dbfs: this.low_dbfs,
      burst_ms: this.burst_ms,
      compare: this.compare,
    };
  }

  /** Measure when whatever moves rests. */
  soon(): void {
    this.rest.after(REST_MS, () => this.run());
  }

  async run(): Promise<void> {
    const answer = await this.asking.answer((id, signal) => api.bench(id, this.question(), signal));
    if (!answer) return;
    if (answer.result.test !== this.result?.test)
      this.pins = this.pins.filter((pin) => pin.result.test === answer.result.test);
    this.result = answer.result;
    this.revision = answer.revision;
  }

  stop(): void {
    this.rest.stop();
    this.asking.cancel();
  }

  /** Keep the result beside what is measured next. */
  pin(): void {
    if (!this.result) return;
    const free = LETTERS.find((letter) => !this.pins.some((pin) => pin.letter === letter));
    const kept = free ? this.pins : this.pins.slice(1);
    const letter = free ?? this.pins[0]!.letter;
    const { step } = workspace.selection;
    const label = step
      ? `${this.label}, ${step.bypass ? 'bypassed' : (workspace.version?.plates[step.id] ?? '')}`
      : this.label;
    this.pins = [...kept, { letter, label, result: this.result }].slice(-MAX_PINS);
  }

  unpin(letter: string): void {
    this.pins = this.pins.filter((pin) => pin.letter !== letter);
  }
}

export const bench = new BenchState();
