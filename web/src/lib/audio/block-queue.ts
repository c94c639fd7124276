/**
 * The blocks that wait to be heard. A newer block takes the place of the one of its number: of a queued one, or of the one that
 * sounds just then, in the midst of it. One whose place has sounded is dropped. Blocks of one version go on from each other
 * exactly, and so does the first of a version (its seam) from the one before; where one version goes over to another anywhere
 * else, they are crossfaded.
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
export const FIRST_BLOCKS = 2;

type Sides = [Float32Array, Float32Array];

interface Waiting extends QueuedBlock {
  /** What this block replaced: how the sound before it would have gone on. */
  old: Sides | null;
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
  private old: Sides | null = null;
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
    const place = this.blocks.findIndex((waiting) => waiting.sequence === block.sequence);
    const sounds = place === 0 && this.offset > 0;
    if (sounds ? block.left.length <= this.offset : block.sequence <= this.begun) {
      this.late += 1;
      return false;
    }
    if (sounds) {
      this.fadeFrom(this.ahead());
      this.version = block.version;
      this.blocks[0] = { ...block, old: null };
    } else if (place < 0) this.blocks.push({ ...block, old: null });
    else {
      const { left, right } = this.blocks[place]!;
      const old: Sides = [left.slice(0, FADE_FRAMES), right.slice(0, FADE_FRAMES)];
      this.blocks[place] = { ...block, old };
    }
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

  private fadeFrom(old: Sides | null): void {
    this.fading = FADE_FRAMES;
    this.old = old;
  }

  private begin(block: Waiting): void {
    this.begun = block.sequence;
    if (this.version >= 0 && block.version !== this.version && block.sequence !== block.seam)
      this.fadeFrom(block.old);
    this.version = block.version;
  }

  /** What would sound next as it is, as long as a fade. */
  private ahead(): Sides {
    const sides: Sides = [new Float32Array(FADE_FRAMES), new Float32Array(FADE_FRAMES)];
    let [at, offset] = [0, this.offset];
    for (const { left, right } of this.blocks) {
      const end = offset + FADE_FRAMES - at;
      sides[0].set(left.subarray(offset, end), at);
      sides[1].set(right.subarray(offset, end), at);
      at += Math.min(left.length, end) - offset;
      offset = 0;
      if (at === FADE_FRAMES) break;
    }
    for (const side of sides) side.fill(side[at - 1]!, at);
    this.fade(...sides, 0, Math.min(at, this.fading), this.fading);
    return sides;
  }

  /** Mix what is faded out into `count` frames from `at` on; over: frames of the fade that are to come there. */
  private fade(left: Float32Array, right: Float32Array, at: number, count: number, over: number): void {
    for (let i = 0; i < count; i += 1) {
      const place = FADE_FRAMES - over + i;
      const part = (place + 1) / FADE_FRAMES;
      const oldLeft = this.old ? (this.old[0][place] ?? 0) : this.lastLeft;
      const oldRight = this.old ? (this.old[1][place] ?? 0) : this.lastRight;
      left[at + i] = left[at + i]! * part + oldLeft * (1 - part);
      right[at + i] = right[at + i]! * part + oldRight * (1 - part);
    }
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
      const faded = Math.min(count, this.fading);
      this.fade(left, right, at, faded, this.fading);
      this.fading -= faded;
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
