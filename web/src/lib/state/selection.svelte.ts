/** What is chosen: a strip, and on its path a step or a lane; strips or steps chosen together. */
import type { Lane, Session, Step, Strip } from '../api/client';
import { find, type Chosen, type Context } from '../path/tree';

export class Selection {
  stripId = $state('main');
  stepId = $state<string | null>(null);
  /** The lane that is chosen itself; null while a step is. */
  laneId = $state<string | null>(null);
  /** Strips chosen together, by Shift or Ctrl; empty while only one is chosen. */
  stripIds = $state<string[]>([]);
  /** Steps chosen together, by Shift or Ctrl; empty while only one is chosen. */
  stepIds = $state<string[]>([]);

  /** changed: told of every choice; movedStrip: whether it is another strip's. */
  constructor(
    private readonly session: () => Session | null,
    private readonly changed: (movedStrip: boolean) => void,
  ) {}

  // Derived, so that what hangs on a step is not told of edits of another: what stayed is the same object.
  readonly strip: Strip | null = $derived(this.stripOf(this.stripId));

  /** The chosen step or lane, with what it stands in; null if it is the strip itself. */
  readonly context: Context | null = $derived(
    this.strip ? find(this.strip.path.steps, { stepId: this.stepId, laneId: this.laneId }) : null,
  );

  readonly step: Step | null = $derived(this.context?.step ?? null);

  /** The lane that is chosen itself. */
  readonly lane: Lane | null = $derived(this.stepId === null ? (this.context?.lane ?? null) : null);

  /** What is compared and measured, as the server is told. */
  get scope() {
    return { strip_id: this.stripId, step_id: this.step?.id ?? null, lane_id: this.lane?.id ?? null };
  }

  /** Where something new goes: behind the chosen step, at the end of the chosen lane, or of the path. */
  get place(): { lane_id: string | null; index: number } {
    const { context } = this;
    if (!context) return { lane_id: null, index: this.strip?.path.steps.length ?? 0 };
    const index = context.step ? context.index + 1 : context.siblings.length;
    return { lane_id: context.lane?.id ?? null, index };
  }

  private stripOf(id: string): Strip | null {
    return this.session()?.strips.find((strip) => strip.id === id) ?? null;
  }

  /** What was chosen when the session was open last, if that is still there; otherwise the strip `first` and its last step. */
  open(first: Strip, kept: { strip: string; step: string | null; lane?: string | null } | null): void {
    this.clear();
    this.stripId = this.stripOf(kept?.strip ?? '')?.id ?? first.id;
    this.laneId = kept?.lane ?? null;
    this.stepId = kept?.step ?? (this.laneId ? null : (this.strip?.path.steps.at(-1)?.id ?? null));
    this.settle();
  }

  /** If what was chosen is gone, choose what is nearest. */
  settle(): void {
    if (!this.strip) this.stripId = 'main';
    if ((this.stepId === null && this.laneId === null) || this.context) return;
    this.stepId = this.strip?.path.steps.at(-1)?.id ?? null;
    this.laneId = null;
  }

  clear(): void {
    this.stripIds = [];
    this.stepIds = [];
  }

  /** Choose a strip and on it a step (the last one unless told), a lane, or with null for both the strip itself. */
  choose(stripId: string, stepId: string | null | undefined = undefined, laneId: string | null = null): void {
    const strip = this.stripOf(stripId);
    if (!strip) return;
    this.stepIds = [];
    if (!this.stripIds.includes(stripId)) this.stripIds = [];
    const moved = stripId !== this.stripId;
    this.stripId = stripId;
    this.stepId = stepId === undefined ? (strip.path.steps.at(-1)?.id ?? null) : stepId;
    this.laneId = this.stepId === null ? laneId : null;
    this.settle();
    this.changed(moved);
  }

  chooseOnPath({ stepId, laneId }: Chosen): void {
    this.choose(this.stripId, stepId, laneId);
  }

  /** Add a step to those chosen together, or take it out; `through` adds all up to it. Only steps of one path go together. */
  chooseSteps(stepId: string, through: boolean): void {
    const ids = (find(this.strip?.path.steps ?? [], { stepId, laneId: null })?.siblings ?? []).map(
      (step) => step.id,
    );
    const from = (this.stepIds.length ? this.stepIds : this.stepId ? [this.stepId] : []).filter((id) =>
      ids.includes(id),
    );
    this.stepIds =
      through && from.length ? between(ids, this.stepId ?? stepId, stepId) : toggled(from, stepId);
    if (this.stepIds.length === 1) this.choose(this.stripId, this.stepIds[0]!);
  }

  /** Add a strip to those chosen together, or take it out; `through` adds all up to it, in the order of `ids`. */
  chooseStrips(stripId: string, through: boolean, ids: string[]): void {
    const from = this.stripIds.length ? this.stripIds : [this.stripId];
    const next = through ? between(ids, this.stripId, stripId) : toggled(from, stripId);
    this.stripIds = next;
    if (!through && next.length) this.choose(next.at(-1)!);
    this.stripIds = next.length > 1 ? next : [];
  }
}

function between(ids: string[], from: string, to: string): string[] {
  const [a, b] = [ids.indexOf(from), ids.indexOf(to)];
  return ids.slice(Math.min(a, b), Math.max(a, b) + 1);
}

const toggled = (ids: string[], id: string): string[] =>
  ids.includes(id) ? ids.filter((other) => other !== id) : [...ids, id];
