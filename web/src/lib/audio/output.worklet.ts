/** Plays blocks from a queue and reports what was heard. A new epoch drops all older sound, faded out. */
import type { Heard, ToWorklet } from './protocol';

const REPORT_QUANTA = 4;
const FADE_FRAMES = 128;

class Output extends AudioWorkletProcessor {
  private queue: Extract<ToWorklet, { type: 'block' }>[] = [];
  private offset = 0;
  private epoch = 0;
  private frames = 0;
  private underruns = 0;
  private starving = true;
  private ending = false;
  private quanta = 0;
  private lastLeft = 0;
  private lastRight = 0;
  private fade = 0;
  private port2: MessagePort | null = null;

  constructor() {
    super();
    this.port.onmessage = (event: MessageEvent<MessagePort>) => {
      this.port2 = event.data;
      this.port2.onmessage = (message: MessageEvent<ToWorklet>) => this.take(message.data);
    };
  }

  private take(message: ToWorklet): void {
    if (message.epoch < this.epoch) return;
    if (message.epoch > this.epoch) {
      this.epoch = message.epoch;
      this.queue = [];
      this.offset = this.frames = this.underruns = 0;
      this.starving = true;
      this.ending = false;
      this.fade = FADE_FRAMES;
    }
    if (message.type === 'last') this.ending = true;
    if (message.type === 'block') this.queue.push(message);
  }

  process(_inputs: Float32Array[][], outputs: Float32Array[][]): boolean {
    const [left, right] = outputs[0]! as [Float32Array, Float32Array];
    let at = 0;
    while (at < left.length) {
      const block = this.queue[0];
      if (!block) {
        if (!this.starving) {
          this.starving = true;
          if (!this.ending) this.underruns += 1;
          this.fade = FADE_FRAMES;
        }
        break;
      }
      this.starving = false;
      const count = Math.min(left.length - at, block.left.length - this.offset);
      left.set(block.left.subarray(this.offset, this.offset + count), at);
      right.set(block.right.subarray(this.offset, this.offset + count), at);
      at += count;
      this.offset += count;
      this.frames += count;
      this.lastLeft = block.left[this.offset - 1]!;
      this.lastRight = block.right[this.offset - 1]!;
      if (this.offset === block.left.length) {
        this.queue.shift();
        this.offset = 0;
      }
    }
    // Where sound stops short, its last value is let down gently instead of dropped.
    for (let i = at; i < left.length && this.fade > 0; i += 1, this.fade -= 1) {
      left[i] = (this.lastLeft * this.fade) / FADE_FRAMES;
      right[i] = (this.lastRight * this.fade) / FADE_FRAMES;
    }
    this.quanta += 1;
    if (this.quanta % REPORT_QUANTA === 0 && this.port2 && this.epoch > 0) {
      const heard: Heard = {
        epoch: this.epoch,
        frames: this.frames,
        sequence: this.queue[0]?.sequence ?? -1,
        offset: this.offset,
        underruns: this.underruns,
      };
      this.port2.postMessage(heard);
    }
    return true;
  }
}

registerProcessor('output', Output);
