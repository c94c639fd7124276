/**
 * The blocks that wait to be heard. A newer block takes the place of a queued one of the same number that has not begun; one that
 * comes too late is dropped. Blocks of one version go on from each other exactly, and so does the first of a version (its seam)
 * from the one before; any other border between two versions is crossfaded.
 */
export interface QueuedBlock {
  sequence: number;
  /** How often the play was rewound, and the first block of this version. */
  version: number;
  seam: number;
  left: Float32Array;
  right: Float32Array;
}

export const FADE_FRAMES = 128;
/** A play begins to sound when so many blocks are there: the first come one by one. */
export const FIRST_BLOCKS = 3;

interface Waiting extends QueuedBlock {
  /** What this block replaced: how the sound before it would have gone on. */
  old: [Float32Array, Float32Array] | null;
}

export class BlockQueue {
  private blocks: Waiting[] = [];
  private offset = 0;
  /** Version of the block that sounds or sounded last; the number of the last block that has begun. */
  private version = -1;
  private begun = -1;
  private lastLeft = 0;
  private lastRight = 0;
  /** Frames of a fade that is going on, and what is faded out. */
  private fading = 0;
  private old: [Float32Array, Float32Array] | null = null;
  private release = 0;
  private starving = true;
  /** Nothing of the play has sounded yet. */
  private waiting = true;
  /** Frames that have sounded, and gaps. */
  frames = 0;
  underruns = 0;
  /** Blocks that came too late to replace another. */
  late = 0;
  /** No more blocks will come: running dry is no gap. */
  ending = false;

  /** The block that sounds or is next, and how far it is. */
  get current(): { sequence: number; offset: number } {
    return { sequence: this.blocks[0]?.sequence ?? -1, offset: this.offset };
  }

  /** Whether it was taken. */
  take(block: QueuedBlock): boolean {
    if (block.sequence <= this.begun) {
      this.late += 1;
      return false;
    }
    const place = this.blocks.findIndex((waiting) => waiting.sequence === block.sequence);
    if (place < 0) {
      this.blocks.push({ ...block, old: null });
      return true;
    }
    const { left, right } = this.blocks[place]!;
    this.blocks[place] = {
      ...block,
      old: [left.slice(0, FADE_FRAMES), right.slice(0, FADE_FRAMES)],
    };
    return true;
  }

  /** Drop everything, faded out: another play begins, or none. */
  clear(): void {
    this.blocks = [];
    this.offset = this.frames = this.underruns = this.late = 0;
    this.version = this.begun = -1;
    this.fading = 0;
    this.starving = this.waiting = true;
    this.ending = false;
    this.release = FADE_FRAMES;
  }

  private begin(block: Waiting): void {
    this.begun = block.sequence;
    if (this.version >= 0 && block.version !== this.version && block.sequence !== block.seam) {
      this.fading = FADE_FRAMES;
      this.old = block.old;
    }
    this.version = block.version;
  }

  /** Fill both channels with what is next; silence where there is nothing. */
  fill(left: Float32Array, right: Float32Array): void {
    let at = 0;
    if (this.blocks.length >= FIRST_BLOCKS || this.ending) this.waiting = false;
    while (at < left.length && !this.waiting) {
      const block = this.blocks[0];
      if (!block) {
        if (!this.starving) {
          this.starving = true;
          if (!this.ending) this.underruns += 1;
          this.release = FADE_FRAMES;
        }
        break;
      }
      if (this.offset === 0) this.begin(block);
      this.starving = false;
      const count = Math.min(left.length - at, block.left.length - this.offset);
      left.set(block.left.subarray(this.offset, this.offset + count), at);
      right.set(block.right.subarray(this.offset, this.offset + count), at);
      for (let i = 0; i < count && this.fading > 0; i += 1, this.fading -= 1) {
        const place = FADE_FRAMES - this.fading;
        const part = (place + 1) / FADE_FRAMES;
        const [oldLeft, oldRight] = this.old
          ? [this.old[0][place] ?? 0, this.old[1][place] ?? 0]
          : [this.lastLeft, this.lastRight];
        left[at + i] = left[at + i]! * part + oldLeft * (1 - part);
        right[at + i] = right[at + i]! * part + oldRight * (1 - part);
      }
      at += count;
      this.offset += count;
      this.frames += count;
      if (this.fading === 0 || this.old) {
        this.lastLeft = left[at - 1]!;
        this.lastRight = right[at - 1]!;
      }
      if (this.offset === block.left.length) {
        this.blocks.shift();
        this.offset = 0;
      }
    }
    // Where sound stops short, its last value is let down gently instead of dropped.
    for (let i = at; i < left.length && this.release > 0; i += 1, this.release -= 1) {
      left[i] = (this.lastLeft * this.release) / FADE_FRAMES;
      right[i] = (this.lastRight * this.release) / FADE_FRAMES;
    }
  }
}
