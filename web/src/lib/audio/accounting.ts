/** What was sent to be heard, by block: its figures are shown when it sounds. */
import type { BlockHeader, Heard } from './protocol';

export interface Sounding {
  header: BlockHeader;
  position_s: number;
  /** Sum of squares of all blocks of this play that were heard to their end. */
  energy: number;
}

export class Accounting {
  private blocks: { header: BlockHeader; energy: number }[] = [];
  private heardEnergy = 0;
  private epoch = -1;
  private counted = { underruns: 0, late: 0 };

  constructor(private readonly rate: number) {}

  /** A block has come; one that was sent before under the same number is replaced. */
  take(header: BlockHeader, energy: number): void {
    if (this.blocks.length && this.blocks[0]!.header.epoch !== header.epoch) {
      this.blocks = [];
      this.heardEnergy = 0;
    }
    const place = this.blocks.findIndex(({ header: { sequence } }) => sequence === header.sequence);
    if (place >= 0) this.blocks[place] = { header, energy };
    else if (!this.blocks.length || header.sequence > this.blocks.at(-1)!.header.sequence)
      this.blocks.push({ header, energy });
  }

  /** New gaps, and new blocks that came too late, since the last report. */
  since(heard: Heard): { underruns: number; late: number } {
    const before = this.epoch === heard.epoch ? this.counted : { underruns: 0, late: 0 };
    this.epoch = heard.epoch;
    this.counted = { underruns: heard.underruns, late: heard.late };
    return { underruns: heard.underruns - before.underruns, late: heard.late - before.late };
  }

  /** What sounds now; null if that is not known. */
  report(heard: Heard): Sounding | null {
    while (this.blocks.length && this.blocks[0]!.header.sequence < heard.sequence)
      this.heardEnergy += this.blocks.shift()!.energy;
    const header = this.blocks[0]?.header;
    if (header?.epoch !== heard.epoch || header.sequence !== heard.sequence) return null;
    return { header, position_s: header.position_s + heard.offset / this.rate, energy: this.heardEnergy };
  }
}
