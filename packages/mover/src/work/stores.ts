import { existsSync, mkdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { randomBytes } from 'node:crypto';
import path from 'node:path';
import { bytesOfText } from '@lithodex/core';
import type { PointRef, TargetRef } from '@lithodex/contract';
import {
  EngineError,
  forgetFollower,
  noteFollower,
  openEnvelope,
  openHeaderWithKeys,
  parseEnvelope,
  readingFrom,
  replaceSlots,
  Store,
  takeOwnership,
  targetAt,
  wrapWithKeyFile,
  type Domain,
  type Target,
} from '@lithodex/engine';
import type { HostLimits } from '@lithodex/connectors';

/** So long the pin of a task counts that reads a store of another installation, which can not ask after the task; it is renewed all the time. */
const followerPinMs = 6 * 3_600_000;
const renewPinMs = 3_600_000;

/** What people call the place of a target. */
function nameOf({ place }: TargetRef): string {
  if (place.kind === 'snapshot') return `the snapshot on ${place.at.storage}`;
  if (place.kind === 'folder') return place.folder;
  return place.kind === 'bucket' ? `${place.bucket}/${place.prefix}` : `the cartridges ${place.barcodes}…`;
}

/** Throws TARGET_MISSING for what stands on no target of ours. */
function placeAt(target: TargetRef, pace?: SharedArrayBuffer): Target {
  const { place } = target;
  if (place.kind === 'snapshot') throw new EngineError('TARGET_MISSING', nameOf(target));
  return targetAt({ ...place, ...(pace && { pace }) });
}

/** The stores this thread has opened, with the keys of the mover's key folder. */
export class Stores {
  private readonly open = new Map<string, Store>();

  /** `pace`: memory of the pace at which the task of this thread writes. */
  constructor(
    private readonly keysFolder: string,
    private readonly limits: HostLimits,
    private readonly pace?: SharedArrayBuffer,
  ) {}

  private keyPath(targetId: string): string {
    return path.join(this.keysFolder, `${targetId}.key`);
  }

  private key(targetId: string): Buffer {
    const file = this.keyPath(targetId);
    if (!existsSync(file)) throw new EngineError('KEY_MISSING', file);
    return readFileSync(file);
  }

  /** The store of a target, its index up to date. Throws TARGET_MISSING, KEY_MISSING, KEY_WRONG. */
  async of(target: TargetRef): Promise<Store> {
    if (target.place.kind === 'folder' && !existsSync(target.place.folder)) {
      this.open.delete(target.id);
      throw new EngineError('TARGET_MISSING', target.place.folder);
    }
    this.checkPlace(target);
    const known = this.open.get(target.id);
    if (known) {
      await known.index.refresh();
      return known;
    }
    const store = await Store.open(placeAt(target, this.pace), this.key(target.id));
    store.installation = target.owner;
    this.open.set(target.id, store);
    return store;
  }

  /**
   * A store that gives the point, the first of its targets that can; what is lost there is read from the others, which `onElsewhere` is told once each. Throws what the first failed
   * with when none can.
   */
  async ofPoint(point: PointRef, onElsewhere: (target: string) => void = () => undefined): Promise<Store> {
    const places = [point.target, ...point.others];
    let failure: unknown;
    for (const target of places)
      try {
        const store = await this.of(target);
        const others = places.filter((t) => t !== target).map((t) => ({ name: t.id, open: () => this.of(t) }));
        const told = new Set<string>();
        store.reader.elsewhere = readingFrom(others, (id) => {
          if (told.has(id)) return;
          told.add(id);
          onElsewhere(nameOf(places.find((t) => t.id === id)!));
        });
        if (!(await store.root(point.seriesId, point.taskId))) throw new EngineError('OBJECT_MISSING', 'the root of the point');
        if (failure) onElsewhere(nameOf(target));
        return store;
      } catch (error) {
        if (!(error instanceof EngineError)) throw error;
        failure ??= error;
      }
    throw failure as Error;
  }

  /**
   * Runs `use` with the task pinned on these targets, so that nothing it reads is deleted meanwhile. A target that is away, full or can only be read is not pinned: what is
   * needed most must not fail for want of a few bytes, and what can't be read at all is told by who reads it.
   */
  async pinned<T>(taskId: string, targets: readonly TargetRef[], use: () => Promise<T>): Promise<T> {
    const pins: { store: Store; pin: string; follows: boolean }[] = [];
    const renewing = setInterval(() => {
      // one that can not be renewed counts for some hours yet, and the next try comes before they have gone by
      for (const { store, pin } of pins.filter((p) => p.follows))
        store.pins.pinUntil(taskId, Date.now() + followerPinMs, pin).catch(() => undefined);
    }, renewPinMs);
    try {
      for (const target of new Map(targets.map((t) => [t.id, t])).values()) {
        try {
          const store = await this.of(target);
          const { follows = false } = target;
          const pin = follows ? await store.pins.pinUntil(taskId, Date.now() + followerPinMs) : await store.pins.pin(taskId);
          pins.push({ store, pin, follows });
          await store.index.refresh();
        } catch (error) {
          if (!(error instanceof EngineError)) throw error;
        }
      }
      return await use();
    } finally {
      clearInterval(renewing);
      for (const { store, pin } of pins) await store.pins.release(pin);
    }
  }

  /**
   * What chunk names are keyed by: kept beside the keys, taken from a target that opens where it is not. Undefined when there is no target yet.
   * Throws what the last target failed with.
   */
  private async domain(siblings: readonly TargetRef[]): Promise<Domain | undefined> {
    if (existsSync(this.domainFile)) {
      const { id, nameKey } = JSON.parse(readFileSync(this.domainFile, 'utf8')) as { id: string; nameKey: string };
      return { id, nameKey: Buffer.from(nameKey, 'base64') };
    }
    let failure: unknown;
    for (const sibling of siblings)
      try {
        return (await this.of(sibling)).domain;
      } catch (error) {
        failure = error;
      }
    if (failure) throw failure as Error;
    return undefined;
  }

  private get domainFile(): string {
    return path.join(this.keysFolder, 'domain.json');
  }

  /** Refuses a target where the mover keeps its own things. Throws OUT_OF_BOUNDS. */
  private checkPlace({ place }: TargetRef): void {
    if (place.kind !== 'bucket' && place.kind !== 'snapshot') this.limits.checkTarget(bytesOfText(place.folder));
  }

  /** Makes a store with a new key file, in the domain of its siblings where there are any. */
  async create(target: TargetRef, siblings: readonly TargetRef[]): Promise<void> {
    this.checkPlace(target);
    const domain = await this.domain(siblings);
    mkdirSync(this.keysFolder, { recursive: true, mode: 0o700 });
    if (target.place.kind === 'folder') mkdirSync(target.place.folder, { recursive: true, mode: 0o700 });
    const key = randomBytes(32);
    writeFileSync(this.keyPath(target.id), key, { mode: 0o600, flag: 'wx', flush: true });
    const store = await Store.create(placeAt(target), key, new Date(), domain);
    await takeOwnership(store.target, store.keys, target.owner, Date.now());
    const { id, nameKey } = store.domain;
    const text = JSON.stringify({ id, nameKey: nameKey.toString('base64') });
    if (!domain) writeFileSync(this.domainFile, text, { mode: 0o600, flush: true });
  }

  /**
   * Opens a store that is there already with its key envelope, and gives it a key file of this mover: to own it, or to follow its owner. Throws KEY_WRONG, STORE_HEADER, TARGET_MISSING.
   */
  async takeOver(target: TargetRef, envelopeText: string, passphrase: string): Promise<void> {
    this.checkPlace(target);
    const at = placeAt(target);
    const keys = openEnvelope(parseEnvelope(envelopeText), passphrase);
    const header = await openHeaderWithKeys(at, keys);
    mkdirSync(this.keysFolder, { recursive: true, mode: 0o700 });
    const key = randomBytes(32);
    writeFileSync(this.keyPath(target.id), key, { mode: 0o600, flag: 'wx', flush: true });
    await replaceSlots(at, keys, header, [...header.slots, wrapWithKeyFile(key, keys, header.targetId)]);
    if (target.follows) await noteFollower({ target: at, keys }, target.owner, Date.now());
    else await takeOwnership(at, keys, target.owner, Date.now());
    const text = JSON.stringify({ id: header.domainId, nameKey: keys.nameKey.toString('base64') });
    if (!existsSync(this.domainFile)) writeFileSync(this.domainFile, text, { mode: 0o600, flush: true });
  }

  /** Makes the installation that asks the owner of a store whose key is here. Throws KEY_MISSING, KEY_WRONG, TARGET_MISSING. */
  async own(target: TargetRef): Promise<void> {
    const { target: at, keys } = await this.of(target);
    await takeOwnership(at, keys, target.owner, Date.now());
    await forgetFollower(at, target.owner);
  }

  /**
   * Gives a target a new key file in place of all it had. The header has a slot for both until the new file is in
   * place: killed anywhere, the file that is there opens the store, and the next try ends it. Envelopes stay as they are: each
   * wraps the key itself.
   */
  async newKey(target: TargetRef): Promise<void> {
    const store = await Store.open(placeAt(target), this.key(target.id));
    store.installation = target.owner;
    await store.assertOwned();
    const { target: at, keys, header } = store;
    const file = this.keyPath(target.id);
    const key = randomBytes(32);
    writeFileSync(`${file}.new`, key, { mode: 0o600, flush: true });
    const others = header.slots.filter((s) => s.kind !== 'keyfile');
    const slot = wrapWithKeyFile(key, keys, header.targetId);
    const both = await replaceSlots(at, keys, header, [...header.slots, slot]);
    renameSync(`${file}.new`, file);
    await replaceSlots(at, keys, both, [...others, slot]);
    this.open.delete(target.id);
  }

  /** Forgets an opened store, after it misbehaved. */
  forget(targetId: string): void {
    this.open.delete(targetId);
  }
}
