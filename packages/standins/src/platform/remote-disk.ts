import { blockBytes, type BlockDisk } from './block-disk';
import { NbdClient, type NetworkDisk } from './nbd-client';
import { PlatformError } from './platform-error';

/** Where a disk is copied to while its machine runs. */
export interface DiskMove {
  readonly storage: string;
  /** Bytes a second; null for as fast as it goes. */
  readonly pace: number | null;
}

const pieceBlocks = 16;

/**
 * A disk of a machine that lies in the network: what was read of it is kept beside in `local`, what is written goes to both. Once all of it is in `local` the machine can go
 * on without the network.
 */
export class RemoteDisk {
  private readonly client: NbdClient;
  private readonly present: Uint8Array;
  private opening: Promise<void>;
  private turn: Promise<unknown> = Promise.resolve();
  private missing = 0;
  private total = 0;
  move: DiskMove | undefined;
  private closed = false;

  constructor(
    readonly at: NetworkDisk,
    private readonly local: BlockDisk,
  ) {
    this.client = new NbdClient(at);
    this.present = new Uint8Array(Math.ceil(local.size / blockBytes)).fill(1);
    this.opening = this.learn();
    this.opening.catch(() => undefined);
  }

  private async learn(): Promise<void> {
    const { size } = this.local;
    for (const [offset, length] of await this.client.data(size)) {
      const from = Math.floor(offset / blockBytes);
      const to = Math.ceil((offset + length) / blockBytes);
      for (let block = from; block < to; block++) {
        if (!this.present[block]) continue;
        this.present[block] = 0;
        this.missing++;
      }
      this.local.holds(from, to);
    }
    this.total = this.missing;
  }

  /** Throws what the network says when nothing answers in time. */
  async ready(patienceMs: number): Promise<void> {
    let timer: NodeJS.Timeout | undefined;
    const late = new Promise<never>((_, reject) => {
      timer = setTimeout(() => {
        reject(new PlatformError('DISK_AWAY', `nothing answers at ${this.at.host}:${this.at.port}`));
      }, patienceMs);
    });
    try {
      await Promise.race([this.opening, late]);
    } finally {
      clearTimeout(timer);
    }
  }

  /** Bytes that are here, and that there are. */
  get copied(): { readonly done: number; readonly of: number } {
    return { done: (this.total - this.missing) * blockBytes, of: this.total * blockBytes };
  }

  get whole(): boolean {
    return this.missing === 0;
  }

  private inTurn<T>(act: () => Promise<T>): Promise<T> {
    const done = this.turn.then(act);
    this.turn = done.catch(() => undefined);
    return done;
  }

  /** Sees to it that a stretch is in `local`. */
  async have(offset: number, length: number): Promise<void> {
    await this.opening;
    await this.inTurn(() => this.fetch(Math.floor(offset / blockBytes), Math.ceil((offset + length) / blockBytes)));
  }

  private async fetch(from: number, to: number): Promise<void> {
    for (let block = from; block < to;) {
      if (this.present[block] !== 0) {
        block++;
        continue;
      }
      let end = block + 1;
      while (end < to && end - block < pieceBlocks && this.present[end] === 0) end++;
      const bytes = Math.min(end * blockBytes, this.local.size) - block * blockBytes;
      this.local.fill(block * blockBytes, await this.client.read(block * blockBytes, bytes));
      this.missing -= end - block;
      this.present.fill(1, block, end);
      block = end;
    }
  }

  /** What the machine writes. */
  async write(offset: number, data: Uint8Array): Promise<void> {
    await this.have(offset, data.length);
    await this.inTurn(async () => {
      await this.client.write(offset, data);
      this.local.write(offset, data);
    });
  }

  flush(): Promise<void> {
    return this.client.flush();
  }

  /** Begins to bring all of it here, at its pace. */
  begin(move: DiskMove): void {
    const again = this.move !== undefined;
    this.move = move;
    if (!again) void this.bring().catch(() => undefined);
  }

  private async bring(): Promise<void> {
    await this.opening;
    for (let block = 0; block < this.present.length && !this.closed;) {
      if (this.present[block] !== 0) {
        block++;
        continue;
      }
      const began = performance.now();
      const before = this.missing;
      const from = block;
      await this.inTurn(() => this.fetch(from, Math.min(from + pieceBlocks, this.present.length)));
      const pace = this.move?.pace ?? null;
      const wait = pace === null ? 0 : (((before - this.missing) * blockBytes) / pace) * 1000 - (performance.now() - began);
      if (wait > 1) await new Promise((resume) => setTimeout(resume, wait));
    }
  }

  close(): void {
    this.closed = true;
    this.client.close();
  }
}
