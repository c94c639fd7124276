/** What of the page is in front: the view, and the dialogs that belong to no part of the session. */
import type { EditPart } from '../api/client';
import { addressOf, hashOf, VIEWS, type View } from './address';
import { workspace } from './workspace.svelte';

type Dialog = 'sessions' | 'help' | 'new' | 'sections' | 'stage gain' | 'history';

/** Views in which a path is edited: only there a step can be added. */
const WITH_PATH: ReadonlySet<View> = new Set<View>(['shape', 'contrast', 'bench']);

class Page {
  view = $state<View>(addressOf(globalThis.location?.hash ?? '').view);
  dialog = $state<Dialog | null>(null);
  /** The search for a step to add is open. */
  adding = $state(false);
  private before: { stripId: string; stepId: string | null; laneId: string | null } | null = null;
  /** How many bands the next split gets. */
  bands = $state(4);

  /** What Undo and Redo are about here. */
  get part(): EditPart {
    return this.view === 'deliver' ? 'delivery' : 'sound';
  }

  show(view: View): void {
    if (view === this.view) return;
    this.turnTo(view);
    history.pushState(null, '', hashOf({ session: workspace.version?.id ?? null, view }));
  }

  /** Without an entry in the browser's history: it led here. */
  turnTo(view: View): void {
    if (view !== this.view) this.adding = false;
    if (view === 'contrast' && this.view !== 'contrast') this.lookAtMain();
    else if (this.view === 'contrast' && view !== 'contrast') this.lookBack();
    this.view = view;
  }

  /** The page was opened in a view that another did not lead to. */
  opened(): void {
    if (this.view === 'contrast') this.lookAtMain();
  }

  /** The contrast of the song is that of its main; the other views go on with what was chosen in them. */
  private lookAtMain(): void {
    const { stripId, stepId, laneId, stripIds } = workspace.selection;
    this.before = null;
    if (!workspace.session || stripIds.length > 1) return;
    this.before = { stripId, stepId, laneId };
    workspace.selection.choose('main', null);
  }
  private lookBack(): void {
    const { before } = this;
    const { stripId, stepId, laneId } = workspace.selection;
    if (before && stripId === 'main' && stepId === null && laneId === null)
      workspace.selection.choose(before.stripId, before.stepId, before.laneId);
    this.before = null;
  }

  showBeside(way: 1 | -1): void {
    this.show(VIEWS[(VIEWS.indexOf(this.view) + way + VIEWS.length) % VIEWS.length]!);
  }

  add(): void {
    this.adding = WITH_PATH.has(this.view);
  }
}

export const page = new Page();
