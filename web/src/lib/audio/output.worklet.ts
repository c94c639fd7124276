/** Plays blocks from a queue and reports what was heard. A new epoch drops all older sound, faded out. */
import { BlockQueue } from './block-queue';
import type { Heard, ToWorklet } from './protocol';

/** A report every 43 ms at 48 kHz: the server counts on from the last. */
const REPORT_QUANTA = 16;

class Output extends AudioWorkletProcessor {
  private readonly queue = new BlockQueue();
  private epoch = 0;
  private quanta = 0;
  private port2: MessagePort | null = null;

  constructor() {
    super();
    this.port.onmessage = (event: MessageEvent<MessagePort>) => {
      this.port2 = event.data;
      this.port2.onmessage = (message: MessageEvent<ToWorklet>) => this.take(message.data);
    };
  }

  private take(message: ToWorklet): void {
    if (message.type === 'reset') {
      this.epoch = 0;
      this.queue.clear();
      return;
    }
    if (message.epoch < this.epoch) return;
    if (message.epoch > this.epoch) {
      this.epoch = message.epoch;
      this.queue.clear();
    }
    if (message.type === 'last') this.queue.ending = true;
    if (message.type === 'block') this.queue.take(message);
  }

  process(_inputs: Float32Array[][], outputs: Float32Array[][]): boolean {
    const [left, right] = outputs[0]! as [Float32Array, Float32Array];
    this.queue.fill(left, right);
    this.quanta += 1;
    if (this.quanta % REPORT_QUANTA === 0 && this.port2 && this.epoch > 0) {
      const { frames, underruns, late, current } = this.queue;
      const heard: Heard = { epoch: this.epoch, frames, ...current, underruns, late };
      this.port2.postMessage(heard);
    }
    return true;
  }
}

registerProcessor('output', Output);
