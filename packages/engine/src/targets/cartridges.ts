import fs from 'node:fs';
import path from 'node:path';
import { EngineError } from '../errors';
import { CartridgeContents, type KnownCartridge, type Spot } from './cartridge-contents';
import { CartridgeLibrary, endOfMedium, type Inventory, type SeenCartridge } from './cartridge-library';
import { decodeHead, encodeRecord, headLimit, type RecordHead } from './cartridge-record';
import { DiskFolder } from './disk-folder';
import type { CartridgePlace } from './place';
import type { Room, Target } from './target';

/** A cartridge of a set, for people. */
export interface CartridgeState {
  readonly barcode: string;
  /** Undefined for an empty one that was not written yet. */
  readonly known: KnownCartridge | undefined;
  /** Undefined when it is on the shelf. */
  readonly seen: SeenCartridge | undefined;
}

/** Objects that live on cartridges alone; all others are in the folder of the set. */
const onlyOnCartridges = 'packs/';
/** Objects of work under way, in the folder alone. */
const passing = ['pins/', 'condemned/', 'locks/', 'check/'];
const labels = 'labels/';
const taken = Symbol('taken');
const nothing = new Uint8Array();
const labelOf = (number: number) => `${labels}${String(number).padStart(8, '0')}`;

const isPack = (name: string) => name.startsWith(onlyOnCartridges);
const isPassing = (name: string) => passing.some((p) => name.startsWith(p));

/**
 * A set of cartridges. Packs are written one behind the other on the newest cartridge, then on the next empty one; what is small and must be at hand (header, index,
 * roots) stands in the folder of the set and on the cartridges too, so that the folder can be made again from them. Removing is a record of its own; a cartridge is
 * erased and used again when nothing on it counts any more.
 */
export class Cartridges implements Target {
  readonly description: string;
  private readonly library: CartridgeLibrary;
  private readonly front: DiskFolder;
  private readonly contents: CartridgeContents;
  private learned: Promise<void> | undefined;
  private writing: Promise<unknown> = Promise.resolve();

  constructor(readonly place: CartridgePlace) {
    this.description = `cartridges ${place.barcodes}… in ${place.endpoint}`;
    this.library = new CartridgeLibrary(place);
    this.front = new DiskFolder(path.join(place.folder, 'at-hand'));
    this.contents = new CartridgeContents(path.join(place.folder, 'cartridges'));
  }

  /** Learns once what is on the cartridges, from the notes and, where they are missing, from the cartridges within reach. */
  private known(): Promise<void> {
    return (this.learned ??= this.learn().catch((error: unknown) => {
      this.learned = undefined;
      throw error;
    }));
  }

  private async learn(): Promise<void> {
    fs.mkdirSync(this.front.folder, { recursive: true, mode: 0o700 });
    this.contents.refresh();
    const { cartridges } = await this.inventory();
    for (const cartridge of cartridges) {
      const { barcode, records } = cartridge;
      // erased, and whoever did it was killed before it could say so
      if (this.contents.known(barcode) > records) this.contents.forget(barcode);
      if (this.contents.known(barcode) < records) await this.readHeads(cartridge);
    }
  }

  private async inventory(): Promise<Inventory> {
    const all = await this.library.inventory();
    return { ...all, cartridges: all.cartridges.filter((c) => c.barcode.startsWith(this.place.barcodes)) };
  }

  /** Reads what a cartridge holds that is not noted; one that was written by somebody else is left alone. */
  private async readHeads({ barcode, records }: SeenCartridge): Promise<void> {
    for (let record = this.contents.known(barcode); record < records; record++) {
      const found = decodeHead(await this.library.read(barcode, record, 0, headLimit));
      if (!found) return;
      if (record === 0) {
        if (!('label' in found.head) || found.head.label.set !== this.place.barcodes) return;
        await this.front.putExclusive(labelOf(found.head.label.number), Buffer.from(barcode));
      }
      this.contents.note(barcode, { record, ...found });
    }
  }

  async put(name: string, data: Uint8Array): Promise<void> {
    await this.known();
    if (!isPack(name)) await this.front.put(name, data);
    if (!isPassing(name)) await this.append({ name, bytes: data.length }, data);
  }

  /** The folder of the set decides who is first; the cartridge has it when the promise resolves. What is in the folder of a pack is only the claim. */
  async putExclusive(name: string, data: Uint8Array, lockedUntil = 0): Promise<boolean> {
    if (lockedUntil > Date.now()) throw noLocks();
    await this.known();
    if (this.contents.live().has(name) || !(await this.front.putExclusive(name, isPack(name) ? nothing : data))) return false;
    if (isPassing(name)) return true;
    this.contents.refresh();
    const first = !this.contents.live().has(name);
    try {
      if (first) await this.append({ name, bytes: data.length }, data);
    } catch (error) {
      await this.front.remove(name);
      throw error;
    }
    if (isPack(name)) await this.front.remove(name);
    return first;
  }

  /** One record after another, on the newest cartridge with room. Throws TARGET_FULL when there is no empty one to go on with. */
  private append(head: RecordHead, data?: Uint8Array): Promise<void> {
    const next = this.writing.then(() => this.appendNow(head, data));
    this.writing = next.catch(() => undefined);
    return next;
  }

  private async appendNow(head: RecordHead, data?: Uint8Array): Promise<void> {
    const record = encodeRecord(head, data);
    const full = new Set<string>();
    for (;;) {
      const barcode = await this.current(full, record.length);
      const number = await this.library.append(barcode, record);
      if (number !== endOfMedium) {
        this.contents.note(barcode, { record: number, at: record.length - (data?.length ?? 0), head });
        return;
      }
      full.add(barcode);
    }
  }

  /** The cartridge to write on: the newest, or else an empty one that the record fits on, which becomes the newest. */
  private async current(full: ReadonlySet<string>, needed: number): Promise<string> {
    const names = await this.front.list(labels);
    const newest = names.at(-1);
    const usable = (await this.inventory()).cartridges.filter((c) => !c.writeProtected && !full.has(c.barcode));
    if (newest !== undefined) {
      const barcode = (await this.front.read(labels + newest)).toString();
      const seen = usable.find((c) => c.barcode === barcode);
      if (seen) {
        if (seen.records === 0) await this.label(barcode, Number(newest));
        if (seen.used + needed <= seen.capacity) return barcode;
      }
    }
    const number = newest === undefined ? 0 : Number(newest) + 1;
    const label = encodeRecord({ label: { set: this.place.barcodes, number } }).length;
    const fitting = usable.filter((c) => label + needed <= c.capacity);
    const barcode = fitting.find((c) => c.records === 0)?.barcode ?? (await this.reclaim(fitting));
    if (barcode === taken) return this.current(full, needed);
    if (barcode === undefined)
      throw new EngineError('TARGET_FULL', `no empty cartridge ${this.place.barcodes}… is in the library; put one in`);
    if (await this.front.putExclusive(labelOf(number), Buffer.from(barcode))) await this.label(barcode, number);
    return this.current(full, needed);
  }

  private async label(barcode: string, number: number): Promise<void> {
    const head: RecordHead = { label: { set: this.place.barcodes, number } };
    const record = encodeRecord(head);
    const written = await this.library.append(barcode, record);
    if (written === 0) this.contents.note(barcode, { record: 0, at: record.length, head });
  }

  /** Erases a cartridge on which nothing counts any more, the oldest first; {@link taken} when another has just begun it anew. */
  private async reclaim(cartridges: readonly SeenCartridge[]): Promise<string | typeof taken | undefined> {
    this.contents.refresh();
    const spent = this.contents.cartridges().find((k) => k.spent && cartridges.some((c) => c.barcode === k.barcode));
    if (!spent) return undefined;
    const label = decodeHead(await this.library.read(spent.barcode, 0, 0, headLimit))?.head;
    if (!label || !('label' in label) || label.label.number !== spent.number) return taken;
    await this.library.erase(spent.barcode, spent.records);
    this.contents.forget(spent.barcode);
    await this.front.remove(labelOf(spent.number));
    return spent.barcode;
  }

  private async spot(name: string): Promise<Spot> {
    await this.known();
    let spot = this.contents.live().get(name);
    if (!spot) {
      this.contents.refresh();
      spot = this.contents.live().get(name);
    }
    if (!spot) throw new EngineError('OBJECT_MISSING', name);
    return spot;
  }

  async read(name: string): Promise<Buffer> {
    await this.known();
    if (!isPack(name))
      try {
        return await this.front.read(name);
      } catch (error) {
        if (isPassing(name) || !(error instanceof EngineError && error.code === 'OBJECT_MISSING')) throw error;
      }
    const { barcode, record, at, bytes } = await this.spot(name);
    const data = await this.library.read(barcode, record, at, bytes);
    if (data.length !== bytes) throw new EngineError('OBJECT_DAMAGED', `${name} is cut short`);
    if (!isPack(name)) await this.front.put(name, data);
    return data;
  }

  async readKept(name: string): Promise<Buffer[]> {
    return [await this.read(name)];
  }

  async readRange(name: string, offset: number, length: number): Promise<Buffer> {
    if (!isPack(name)) return (await this.read(name)).subarray(offset, offset + length);
    const { barcode, record, at } = await this.spot(name);
    const data = await this.library.read(barcode, record, at + offset, length);
    if (data.length !== length) throw new EngineError('OBJECT_DAMAGED', `${name} is cut short`);
    return data;
  }

  /** Packs come in the order they lie on the cartridges. */
  async listDeep(prefix: string): Promise<string[]> {
    await this.known();
    this.contents.refresh();
    const names = new Set(isPack(prefix) ? [] : await this.front.listDeep(prefix));
    if (!isPassing(prefix))
      for (const name of this.contents.live().keys()) if (name.startsWith(prefix)) names.add(name.slice(prefix.length));
    return [...names];
  }

  async list(prefix: string): Promise<string[]> {
    const below = (await this.listDeep(prefix)).map((name) => name.split('/', 1)[0]!);
    return [...new Set(below)].sort();
  }

  async remove(name: string): Promise<void> {
    await this.known();
    if (!isPassing(name) && this.contents.live().has(name)) await this.append({ removes: name });
    await this.front.remove(name);
  }

  async lock(): Promise<void> {
    throw noLocks();
  }

  async lockedUntil(): Promise<number> {
    return 0;
  }

  async reveal(): Promise<boolean> {
    return false;
  }

  /** What is free on the cartridge that is being written and on empty ones within reach. */
  async room(): Promise<Room> {
    await this.known();
    this.contents.refresh();
    const [states, newest] = [await this.states(), this.contents.cartridges().at(-1)?.barcode];
    const free = states.flatMap(({ barcode, known, seen }) => (seen && (!known || barcode === newest) ? [seen.capacity - seen.used] : []));
    return { used: this.contents.cartridges().reduce((sum, c) => sum + c.written, 0), free: free.reduce((a, b) => a + b, 0) };
  }

  /** All cartridges of the set, in the order they were written, then empty ones. */
  async states(): Promise<CartridgeState[]> {
    await this.known();
    this.contents.refresh();
    const { cartridges } = await this.inventory();
    const seen = new Map(cartridges.map((c) => [c.barcode, c]));
    const known = this.contents.cartridges();
    const blank = cartridges.filter((c) => !known.some((k) => k.barcode === c.barcode));
    return [
      ...known.map((k) => ({ barcode: k.barcode, known: k, seen: seen.get(k.barcode) })),
      ...blank.map((c) => ({ barcode: c.barcode, known: undefined, seen: c })),
    ];
  }

  /** On which cartridge an object is; undefined when there is none of this name. */
  async barcodeOf(name: string): Promise<string | undefined> {
    await this.known();
    return this.contents.live().get(name)?.barcode;
  }

  close(): void {
    this.front.close();
  }
}

const noLocks = () => new EngineError('TARGET_REFUSED', 'cartridges can not be locked; protect a cartridge by its slide and take it out');
