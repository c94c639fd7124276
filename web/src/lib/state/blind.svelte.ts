/** Blind comparison of what is chosen: the server draws the order and keeps it until the comparison is over. */
import { api, type BlindCandidate, type BlindResult, type BlindView } from '../api/client';
import { slots, slotScope, type SlotNumber } from './slots.svelte';
import { bypassSteps, swapOrder, swapPartner } from './steps';
import { workspace } from './workspace.svelte';

export type Mode = 'prefer' | 'hear';
const MAX_CANDIDATES = 4;
const ROUNDS: Record<Mode, number> = { prefer: 5, hear: 10 };

/** What can be compared of a scope, by name. */
export interface Choice {
  name: string;
  candidate: BlindCandidate;
}

class BlindState {
  view = $state.raw<BlindView | null>(null);
  /** What sounds. */
  letter = $state('X');
  mode = $state<Mode>('prefer');
  rounds = $state(ROUNDS.prefer);
  picked = $state<string[]>([]);
  results = $state.raw<BlindResult[]>([]);
  /** In words, results that cannot be read any more. */
  setAside = $state.raw<string[]>([]);
  measuring = $state(false);
  private session = 0;
  /** What was compared, in the order of the result. */
  private compared = $state.raw<Choice[]>([]);

  readonly scope = $derived(slotScope(workspace));
  readonly running = $derived(this.view !== null && this.view.result == null);
  readonly choices: Choice[] = $derived.by(() => {
    const numbers = this.scope?.stored.numbers ?? [];
    const partner = workspace.selection.step ? swapPartner(workspace) : null;
    return [
      { name: 'Before', candidate: { what: 'before', slot: null } },
      { name: 'After', candidate: { what: 'after', slot: null } },
      ...numbers.map((slot): Choice => ({ name: `Slot ${slot}`, candidate: { what: 'slot', slot } })),
      ...(partner
        ? [
            {
              name: `Swapped with ${workspace.described.processor(partner.kind)?.label ?? partner.kind}`,
              candidate: { what: 'swapped', slot: null } as BlindCandidate,
            },
          ]
        : []),
    ];
  });
  readonly chosen = $derived(this.choices.filter(({ name }) => this.picked.includes(name)));
  /** Why it cannot begin; empty if it can. */
  readonly refused = $derived(
    this.mode === 'hear' && this.chosen.length !== 2
      ? 'Choose exactly two to hear a difference.'
      : this.chosen.length < 2
        ? 'Choose two to four.'
        : this.chosen.length > MAX_CANDIDATES
          ? 'Choose four at most.'
          : '',
  );

  /** Begin with what is most likely wanted: the slots, or before and after. */
  prepare(): void {
    const numbers = this.scope?.stored.numbers ?? [];
    this.picked = numbers.length > 1 ? numbers.map((slot) => `Slot ${slot}`) : ['Before', 'After'];
    this.view = null;
    void this.list();
  }

  setMode(mode: Mode): void {
    this.mode = mode;
    this.rounds = ROUNDS[mode];
  }

  async start(): Promise<void> {
    const { scope } = this;
    const id = workspace.version?.id;
    if (!scope || id === undefined || this.refused) return;
    const { start_s, end_s, name } = workspace.listening.passage;
    this.measuring = true;
    const view = await workspace.attempt(() =>
      api.startBlind(id, {
        tab: workspace.tab,
        of: scope.of,
        id: scope.id,
        candidates: this.chosen.map(({ candidate }) => candidate),
        mode: this.mode,
        rounds: this.rounds,
        passage: name,
        start_s,
        end_s,
      }),
    );
    this.measuring = false;
    if (!view) return;
    this.session = id;
    this.compared = this.chosen;
    this.view = view;
    this.letter = view.letters[0]!;
    workspace.listening.setLoop(true);
    if (!workspace.listening.playing) await workspace.listening.play();
  }

  /** What was preferred most often, where one was. */
  readonly preferred: Choice | null = $derived.by(() => {
    const result = this.view?.result;
    if (result?.mode !== 'prefer' || !result.rounds.length) return null;
    const most = Math.max(...result.counts);
    const first = result.counts.filter((count) => count === most);
    return first.length === 1 ? (this.compared[result.counts.indexOf(most)] ?? null) : null;
  });

  /** Have what was preferred, as one edit that can be undone. */
  async usePreferred(): Promise<void> {
    const candidate = this.preferred?.candidate;
    const { selection } = workspace;
    if (candidate?.what === 'slot' && candidate.slot) await slots.switchTo(candidate.slot as SlotNumber);
    else if (candidate?.what === 'swapped') await swapOrder(workspace);
    else if (candidate?.what === 'before') {
      const path = selection.lane?.path ?? selection.strip?.path;
      const steps = (selection.step ? [selection.step] : (path?.steps ?? [])).filter((step) => !step.bypass);
      if (steps.length) bypassSteps(workspace, steps);
    }
    workspace.note(
      candidate?.what === 'after'
        ? 'What you preferred is what stands already.'
        : `${this.preferred?.name} is used.`,
    );
  }

  hear(letter: string): void {
    if (!this.view?.letters.includes(letter)) return;
    this.letter = letter;
    workspace.listening.send({ type: 'letter', letter });
  }

  async answer(letter: string): Promise<void> {
    if (!this.running || !this.view?.answers.includes(letter)) return;
    await this.take(() => api.answerBlind(this.session, workspace.tab, letter));
  }

  /** Break off; what was answered is kept. */
  async end(): Promise<void> {
    if (this.running) await this.take(() => api.endBlind(this.session, workspace.tab));
  }

  private async take(how: () => Promise<BlindView>): Promise<void> {
    const view = await workspace.attempt(how);
    if (!view) return;
    this.view = view;
    this.letter = view.letters[0]!;
    if (view.result) await this.list();
  }

  private async list(): Promise<void> {
    const id = workspace.version?.id;
    if (id === undefined) return;
    const kept = await workspace.attempt(() => api.blindResults(id), true);
    this.results = kept?.results ?? [];
    this.setAside = kept?.set_aside ?? [];
  }
}

export const blind = new BlindState();
