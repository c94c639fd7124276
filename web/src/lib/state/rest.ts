/** Something is done once whatever moves rests: each new call puts it off. */
export class Rest {
  private timer: ReturnType<typeof setTimeout> | undefined;

  after(rest_ms: number, work: () => unknown): void {
    this.stop();
    this.timer = setTimeout(() => void work(), rest_ms);
  }

  stop(): void {
    clearTimeout(this.timer);
  }
}
