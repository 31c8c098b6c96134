import { randomBytes } from 'node:crypto';
import { decodeList, encodeList } from '../format/sealed-list';
import type { KeySet } from '../keys/key-set';
import { isLoss } from '../store/loss';
import type { Target } from '../targets/target';

const folder = 'locks/';
/** More records than this are put together into one. */
const recordsAtMost = 32;

/** Which packs of a store are locked and until when, as records on the target tell, so that not every pack has to be asked. */
export class PackLocks {
  private readonly until = new Map<string, number>();
  private readonly read = new Set<string>();

  constructor(
    private readonly keys: KeySet,
    private readonly target: Target,
  ) {}

  /** Reads the records that appeared since the last time. One that can not be read is passed over: its packs are locked all the same. */
  async refresh(): Promise<void> {
    for (const name of await this.target.list(folder)) {
      if (this.read.has(name)) continue;
      try {
        this.learn(decodeList(this.keys, 'locks', name, await this.target.read(folder + name)));
      } catch (error) {
        if (!isLoss(error)) throw error;
      }
      this.read.add(name);
    }
  }

  private learn(list: readonly string[]): void {
    for (const text of list) {
      const [pack = '', until] = text.split(':');
      this.until.set(pack, Math.max(Number(until), this.until.get(pack) ?? 0));
    }
  }

  /** Instant, ms; 0 when the pack is not locked. */
  of(packId: string): number {
    return this.until.get(packId) ?? 0;
  }

  /** Remembers that packs (hex ids) were locked until an instant. Many records are put together into one without those that have ended. */
  async add(packs: readonly string[], until: number): Promise<void> {
    this.learn(packs.map((id) => `${id}:${until}`));
    const name = randomBytes(8).toString('hex');
    const others = await this.target.list(folder);
    const together = others.length >= recordsAtMost && others.every((n) => this.read.has(n));
    const list = together ? [...this.until].filter(([, end]) => end > Date.now()) : packs.map((id): [string, number] => [id, until]);
    const texts = list.map(([id, end]) => `${id}:${end}`);
    await this.target.put(folder + name, encodeList(this.keys, 'locks', name, texts));
    this.read.add(name);
    if (together) for (const old of others) await this.target.remove(folder + old);
  }
}
