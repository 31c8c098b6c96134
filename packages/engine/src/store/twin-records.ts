import { setTimeout } from 'node:timers/promises';
import { EngineError } from '../errors';
import { decodeList, encodeList, type ListKind } from '../format/sealed-list';
import type { KeySet } from '../keys/key-set';
import type { Target } from '../targets/target';
import { isLoss } from './loss';

const copy = '.copy';
const digits = 8;
/** How long a record that is written or taken away may stand in one of its places only, in milliseconds. */
const underWayMs = 1500;

export interface NumberedList {
  readonly number: number;
  readonly list: readonly string[];
}

/** Small numbered records of a store, each sealed and standing twice; the largest number counts. */
export class TwinRecords {
  constructor(
    private readonly target: Target,
    private readonly keys: KeySet,
    private readonly kind: ListKind,
  ) {}

  private nameOf(number: number): string {
    return `${this.kind}/${String(number).padStart(digits, '0')}`;
  }

  private async numbers(): Promise<number[]> {
    const names = await this.target.list(`${this.kind}/`);
    return [...new Set(names.map((n) => Number(n.replace(copy, ''))))].filter((n) => n > 0).sort((a, b) => a - b);
  }

  private async readAt(name: string): Promise<readonly string[] | undefined> {
    try {
      return decodeList(this.keys, this.kind, name.replace(copy, ''), await this.target.read(name));
    } catch (error) {
      if (!isLoss(error)) throw error;
      return undefined;
    }
  }

  private async read(number: number): Promise<readonly string[] | undefined> {
    const name = this.nameOf(number);
    return (await this.readAt(name)) ?? (await this.readAt(name + copy));
  }

  /** The newest record; undefined when there is none. Throws OBJECT_DAMAGED when neither it nor its copy can be read. */
  async newest(): Promise<NumberedList | undefined> {
    const number = (await this.numbers()).at(-1);
    if (number === undefined) return undefined;
    const list = await this.read(number);
    if (!list) throw new EngineError('OBJECT_DAMAGED', this.nameOf(number));
    return { number, list };
  }

  /** The newest record that can be read; undefined when there is none. Throws OBJECT_DAMAGED when none of those there can be read. */
  async newestReadable(): Promise<NumberedList | undefined> {
    const numbers = await this.numbers();
    for (const number of numbers.toReversed()) {
      const list = await this.read(number);
      if (list) return { number, list };
    }
    if (numbers.length) throw new EngineError('OBJECT_DAMAGED', `${this.kind}/`);
    return undefined;
  }

  /** Adds a record behind all there are; of several at once each gets a number of its own. Returns it. */
  async add(list: readonly string[]): Promise<number> {
    for (;;) {
      const number = ((await this.numbers()).at(-1) ?? 0) + 1;
      const name = this.nameOf(number);
      const record = encodeList(this.keys, this.kind, name, list);
      if (!(await this.target.putExclusive(name, record))) continue;
      await this.target.put(name + copy, record);
      return number;
    }
  }

  /** Takes away all but the newest `count`. */
  async keepNewest(count: number): Promise<void> {
    for (const number of (await this.numbers()).slice(0, -count)) await this.remove(number);
  }

  /** Takes a record away. */
  async remove(number: number): Promise<void> {
    for (const name of this.placesOf(number)) await this.target.remove(name);
  }

  /**
   * Writes a record or its copy anew where one of the two can't be read. Returns how many were, and the numbers of records that are lost in both places. What somebody is writing or taking away at this moment stands in
   * one place only: what is not whole is looked at once more a little later.
   */
  async mend(): Promise<{ readonly mended: number; readonly lost: readonly number[] }> {
    let mended = 0;
    const lost: number[] = [];
    const doubtful: number[] = [];
    for (const number of await this.numbers()) if ((await this.readBoth(number)).some((list) => !list)) doubtful.push(number);
    if (!doubtful.length) return { mended, lost };
    await setTimeout(underWayMs);
    const there = new Set(await this.numbers());
    for (const number of doubtful.filter((n) => there.has(n))) {
      const both = this.placesOf(number);
      const found = await this.readBoth(number);
      const sound = found.findIndex((list) => list !== undefined);
      if (sound < 0) lost.push(number);
      else if (found.some((list) => list === undefined)) {
        await this.target.put(both[1 - sound]!, await this.target.read(both[sound]!));
        mended++;
      }
    }
    return { mended, lost };
  }

  private placesOf(number: number): readonly [string, string] {
    return [this.nameOf(number), this.nameOf(number) + copy];
  }

  private readBoth(number: number): Promise<(readonly string[] | undefined)[]> {
    return Promise.all(this.placesOf(number).map((name) => this.readAt(name)));
  }
}
