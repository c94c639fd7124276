/** A socket that is opened again whenever it is lost, until it is closed or the server refuses it. */

/** What is used of a WebSocket. */
export interface Line {
  readyState: number;
  send(data: string): void;
  close(): void;
  onopen: (() => void) | null;
  onclose: ((event: { code: number; reason: string }) => void) | null;
  onmessage: ((event: { data: ArrayBuffer | string }) => void) | null;
}

export interface Ends {
  opened(): void;
  /** Once for each loss. final: it will not be opened again. */
  lost(reason: string, final: boolean): void;
  message(data: ArrayBuffer | string): void;
}

const OPEN = 1;
/** Waits before each try, the last one from then on. */
export const WAITS_MS = [100, 250, 500, 1000, 2000];
/** Codes from here on are the server's own: what was asked for is not there. */
const REFUSED = 4000;

export class Reconnecting {
  private line: Line | null = null;
  private tries = 0;
  private timer: ReturnType<typeof setTimeout> | undefined;
  private closed = false;
  private reported = false;

  constructor(
    private readonly make: () => Line,
    private readonly ends: Ends,
  ) {
    this.open();
  }

  get isOpen(): boolean {
    return this.line?.readyState === OPEN;
  }

  /** Whether it was sent. */
  send(data: string): boolean {
    if (!this.isOpen) return false;
    this.line!.send(data);
    return true;
  }

  close(): void {
    this.closed = true;
    clearTimeout(this.timer);
    this.line?.close();
  }

  private open(): void {
    const line = this.make();
    this.line = line;
    line.onopen = () => {
      this.tries = 0;
      this.reported = false;
      this.ends.opened();
    };
    line.onmessage = (event) => this.ends.message(event.data);
    line.onclose = ({ code, reason }) => {
      if (this.closed) return;
      const final = code >= REFUSED;
      if (!this.reported) this.ends.lost(reason, final);
      this.reported = true;
      if (final) return;
      const wait = WAITS_MS[Math.min(this.tries, WAITS_MS.length - 1)];
      this.tries += 1;
      this.timer = setTimeout(() => this.open(), wait);
    };
  }
}
