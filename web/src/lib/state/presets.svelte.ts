/** The user's presets of one processor, and what is done with them. */
import { api, type Preset } from '../api/client';
import { saveText } from './save';
import { workspace } from './workspace.svelte';

class PresetState {
  list = $state.raw<Preset[]>([]);
  private kind = '';

  async load(kind: string): Promise<void> {
    this.kind = kind;
    await workspace.attempt(async () => {
      this.list = await api.presets(kind, workspace.version?.id ?? null);
    });
  }

  private async then(work: () => Promise<unknown>): Promise<void> {
    await workspace.attempt(work);
    await this.load(this.kind);
  }

  /** here: only for the open session; slots: with all versions, and not only what sounds. */
  save(
    name: string,
    settings: Record<string, unknown>,
    here: boolean,
    replace: boolean,
    slots: boolean,
  ): Promise<void> {
    const session_id = here ? (workspace.version?.id ?? null) : null;
    return this.then(() => api.savePreset({ kind: this.kind, name, settings, session_id, replace, slots }));
  }

  /** Whether there is one of that name where it is to be kept. */
  taken(name: string, here: boolean): boolean {
    return this.list.some((preset) => preset.name === name && (preset.session_id !== null) === here);
  }

  rename(preset: Preset, name: string): Promise<void> {
    return this.then(() => api.renamePreset(preset.id, name));
  }

  remove(preset: Preset): Promise<void> {
    return this.then(async () => {
      await api.removePreset(preset.id);
      workspace.note(`Preset "${preset.name}" deleted.`, 'note', {
        label: 'Undo',
        run: () => void this.then(() => api.restorePreset(preset.id)),
      });
    });
  }

  async export(ids: number[]): Promise<void> {
    await workspace.attempt(async () => {
      const file = await api.exportPresets(this.kind, workspace.version?.id ?? null, ids);
      saveText(JSON.stringify(file, null, 1), `${this.kind} presets.json`);
    });
  }

  import(file: File): Promise<void> {
    return this.then(async () => {
      const text = await file.text();
      let data: unknown;
      try {
        data = JSON.parse(text);
      } catch {
        workspace.note(`${file.name}: this is not a preset file; it is to be JSON text.`, 'error');
        return;
      }
      const taken = await api.importPresets(data);
      workspace.note(taken.length === 1 ? 'One preset imported.' : `${taken.length} presets imported.`);
    });
  }
}

export const presets = new PresetState();
