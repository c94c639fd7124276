/** A lever that learns: where its settings stood at its first end, until the other end is taken. */
import { choices, movedSince, stripOf, type Choice } from './levers';
import { workspace } from './workspace.svelte';

class Learning {
  lever = $state<string | null>(null);
  private first: Choice[] = [];

  private choices(): Choice[] {
    const { session } = workspace;
    if (!session || !this.lever) return [];
    const strip = stripOf(session, this.lever);
    return choices(workspace, strip ? [strip] : session.strips, strip ? [] : session.levers).filter(
      ({ address }) => !(address.of === 'lever' && address.id === this.lever),
    );
  }

  /** What stands now is the end at 0 %. */
  begin(leverId: string): void {
    this.lever = leverId;
    this.first = this.choices();
  }

  /** What stands now is the end at 100 %. */
  end(): void {
    const lever_id = this.lever;
    if (!lever_id) return;
    const first = movedSince(this.first, this.choices());
    if (!first.length)
      return workspace.note('Nothing was moved yet: move settings to where they are to be at 100 %.');
    this.cancel();
    void workspace.edit({ op: 'learn_lever', lever_id, first });
  }

  cancel(): void {
    this.lever = null;
    this.first = [];
  }
}

export const learning = new Learning();
