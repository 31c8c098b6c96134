import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { randomBytes } from 'node:crypto';
import path from 'node:path';
import { DiskFolder, EngineError, Store } from '@lithodex/engine';

/** The stores this thread has opened, with the keys of the mover's key folder. */
export class Stores {
  private readonly open = new Map<string, Store>();

  constructor(private readonly keysFolder: string) {}

  private keyPath(targetId: string): string {
    return path.join(this.keysFolder, `${targetId}.key`);
  }

  private key(targetId: string): Buffer {
    const file = this.keyPath(targetId);
    if (!existsSync(file)) throw new EngineError('KEY_MISSING', file);
    return readFileSync(file);
  }

  /** The store of a target, its index up to date. Throws TARGET_MISSING, KEY_MISSING, KEY_WRONG. */
  async of(target: { id: string; folder: string }): Promise<Store> {
    if (!existsSync(target.folder)) {
      this.open.delete(target.id);
      throw new EngineError('TARGET_MISSING', target.folder);
    }
    const known = this.open.get(target.id);
    if (known) {
      await known.index.refresh();
      return known;
    }
    const store = await Store.open(new DiskFolder(target.folder), this.key(target.id));
    this.open.set(target.id, store);
    return store;
  }

  /**
   * Runs `use` with the task pinned on these targets, so that nothing it reads is deleted meanwhile. A target that is full or can only be read is read without a pin: what is
   * needed most must not fail for want of a few bytes.
   */
  async pinned<T>(taskId: string, targets: readonly { id: string; folder: string }[], use: () => Promise<T>): Promise<T> {
    const pins: { store: Store; pin: string }[] = [];
    try {
      for (const target of new Map(targets.map((t) => [t.id, t])).values()) {
        const store = await this.of(target);
        try {
          pins.push({ store, pin: await store.pins.pin(taskId) });
        } catch (error) {
          if (!(error instanceof EngineError && (error.code === 'TARGET_FULL' || error.code === 'TARGET_REFUSED'))) throw error;
        }
        await store.index.refresh();
      }
      return await use();
    } finally {
      for (const { store, pin } of pins) await store.pins.release(pin);
    }
  }

  /** Makes a store with a new key file. */
  async create(target: { id: string; folder: string }): Promise<void> {
    mkdirSync(this.keysFolder, { recursive: true, mode: 0o700 });
    mkdirSync(target.folder, { recursive: true, mode: 0o700 });
    const key = randomBytes(32);
    writeFileSync(this.keyPath(target.id), key, { mode: 0o600, flag: 'wx', flush: true });
    await Store.create(new DiskFolder(target.folder), key, new Date());
  }

  /** Forgets an opened store, after it misbehaved. */
  forget(targetId: string): void {
    this.open.delete(targetId);
  }
}
