/** Steps that are on their way to a path: shown as an outline, and waited for by what is done to the path meanwhile. */

export interface Place {
  lane_id: string | null;
  index: number;
}

class Coming {
  /** What is added, and where, until the server has answered. */
  step = $state.raw<{ name: string; place: Place } | null>(null);
  private last: Promise<void> = Promise.resolve();

  /** Add something after whatever is on its way: `place` is asked for once that has come. */
  add(name: string, place: () => Place, work: (place: Place) => Promise<void>): Promise<void> {
    const added = this.last.then(async () => {
      const at = place();
      this.step = { name, place: at };
      try {
        await work(at);
      } finally {
        this.step = null;
      }
    });
    this.last = added.catch(() => undefined);
    return added;
  }

  /** Resolves when nothing is on its way. */
  get settled(): Promise<void> {
    return this.last;
  }
}

export const coming = new Coming();
