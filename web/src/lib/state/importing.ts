/** Files that become tracks of the open session. */
import type { Workspace } from './workspace.svelte';

/** Then the passage is what is to be heard of them; what was done with each is said, and what belongs together is proposed. */
export async function importFiles(
  workspace: Workspace,
  files: Iterable<File>,
  order: 'name' | 'given' = 'name',
  takesRate: boolean = true,
): Promise<void> {
  const fresh = !workspace.session?.strips.some((strip) => strip.media_id !== null);
  const view = await workspace.jobs.import([...files], order, fresh && takesRate);
  if (!view) return;
  await workspace.came();
  if (fresh && view.passage_s) {
    const [start_s, end_s] = view.passage_s;
    const whole = start_s === 0 && end_s >= (workspace.version?.length_s ?? 0) - 0.01;
    workspace.listening.setPassage({ start_s, end_s, name: whole ? 'Whole song' : 'Loudest 8 bars' });
  }
  if (view.strip_ids[0]) workspace.selection.choose(view.strip_ids[0]);
  const show = () => (workspace.imported = view);
  const told = view.files.some((file) => file.converted !== null || file.joined || file.start_s !== null);
  if (view.proposals.length || view.notes.length || told) show();
  else {
    const tracks = `${view.strip_ids.length} ${view.strip_ids.length === 1 ? 'track' : 'tracks'} imported.`;
    workspace.note(tracks, 'note', { label: 'Details', run: show }, 'imported');
  }
}
