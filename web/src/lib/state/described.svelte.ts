/** What the server describes once, for good: processors, settings, aims, figures, ready-made paths. */
import {
  api,
  type Aim,
  type Figure,
  type Owner,
  type PathStart,
  type Processor,
  type Setting,
} from '../api/client';

export class Described {
  processors = $state.raw<Processor[]>([]);
  /** Of strips, lanes, sends, keys, steps and the session. */
  settings = $state.raw<Partial<Record<Owner, Setting[]>>>({});
  /** What can be asked of strips and lanes. */
  aims = $state.raw<Partial<Record<'strip' | 'lane', Aim[]>>>({});
  /** What is measured of a sound, in the order it is shown in. */
  figures = $state.raw<Figure[]>([]);
  /** Ready-made paths and splits. */
  pathStarts = $state.raw<PathStart[]>([]);

  async read(): Promise<void> {
    [this.processors, this.settings, this.aims, this.figures, this.pathStarts] = await Promise.all([
      api.processors(),
      api.settings(),
      api.aims(),
      api.figures(),
      api.pathStarts(),
    ]);
  }

  processor(kind: string): Processor | undefined {
    return this.processors.find((processor) => processor.kind === kind);
  }

  /** What a value is: its label, unit, range and scale. */
  setting(of: Owner, name: string): Setting {
    const result = this.settings[of]?.find((candidate) => candidate.name === name);
    if (!result) throw new Error(`the server describes no ${name} of a ${of}`);
    return result;
  }

  /** The figures that a table shows. */
  figuresIn(table: Figure['tables'][number]): Figure[] {
    return this.figures.filter((figure) => figure.tables.includes(table));
  }
}
