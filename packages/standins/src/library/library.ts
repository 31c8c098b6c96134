import { CartridgeBox, type Cartridge } from './cartridge-box';

/** What the library answers when it can't do what it is asked. */
export class LibraryError extends Error {
  constructor(
    readonly status: number,
    readonly code:
      | 'NOT_LOADED'
      | 'NOT_HERE'
      | 'NO_RECORD'
      | 'END_OF_MEDIUM'
      | 'WRITE_PROTECTED'
      | 'NO_SLOT'
      | 'UNREADABLE'
      | 'CHANGED'
      | 'DOWN'
      | 'REFUSED',
    message: string,
  ) {
    super(message);
  }
}

/** What can be made to go wrong, and how slow it is. */
export interface LibrarySwitches {
  /** Time a robot needs to put a cartridge into a drive and get it ready, ms. */
  readonly loadMs: number;
  /** Nothing is answered. */
  readonly down: boolean;
  /** Cartridges that can not be read any more. */
  readonly worn: readonly string[];
}

export const libraryFine: LibrarySwitches = { loadMs: 0, down: false, worn: [] };

interface Drive {
  barcode: string | null;
  lastUsed: number;
}

/** The robot with its drives and slots. One move at a time. */
export class Library {
  readonly box: CartridgeBox;
  switches: LibrarySwitches = libraryFine;
  private readonly drives: Drive[];
  private moving: Promise<void> = Promise.resolve();
  private uses = 0;
  /** Moves into a drive so far. */
  loads = 0;

  constructor(
    folder: string,
    driveCount: number,
    readonly slots: number,
  ) {
    this.box = new CartridgeBox(folder);
    this.drives = Array.from({ length: driveCount }, () => ({ barcode: null, lastUsed: 0 }));
    for (const { barcode, position } of this.box.cartridges.values())
      if (position.at === 'drive') this.drives[position.number]!.barcode = barcode;
  }

  /** What the robot sees; what is on the shelf it does not. */
  inventory() {
    return {
      drives: this.drives.map(({ barcode }, number) => ({ number, barcode })),
      slots: this.slots,
      cartridges: [...this.box.cartridges.values()].filter((c) => c.position.at !== 'shelf'),
    };
  }

  /** Puts a new cartridge into a slot, or onto the shelf when none is free. */
  addNew(barcode: string, capacity: number): void {
    if (this.box.cartridges.has(barcode)) return;
    const number = this.freeSlot();
    this.box.add(barcode, capacity, number === undefined ? { at: 'shelf' } : { at: 'slot', number });
  }

  private freeSlot(): number | undefined {
    const taken = new Set([...this.box.cartridges.values()].flatMap((c) => (c.position.at === 'slot' ? [c.position.number] : [])));
    return Array.from({ length: this.slots }, (_, i) => i).find((i) => !taken.has(i));
  }

  private here(barcode: string): Cartridge {
    const cartridge = this.box.cartridges.get(barcode);
    if (!cartridge || cartridge.position.at === 'shelf') throw new LibraryError(404, 'NOT_HERE', `${barcode} is not in the library`);
    return cartridge;
  }

  private loaded(barcode: string): Cartridge {
    const cartridge = this.here(barcode);
    if (cartridge.position.at !== 'drive') throw new LibraryError(409, 'NOT_LOADED', `${barcode} is in no drive`);
    this.drives[cartridge.position.number]!.lastUsed = ++this.uses;
    return cartridge;
  }

  private place(cartridge: Cartridge, position: Cartridge['position']): void {
    if (cartridge.position.at === 'drive') this.drives[cartridge.position.number]!.barcode = null;
    cartridge.position = position;
    if (position.at === 'drive') this.drives[position.number] = { barcode: cartridge.barcode, lastUsed: ++this.uses };
    this.box.keep(cartridge);
  }

  /** Puts a cartridge into a drive: an empty one, or the one used least lately, whose cartridge goes back to a slot. */
  load(barcode: string): Promise<void> {
    const move = this.moving.then(async () => {
      const cartridge = this.here(barcode);
      if (cartridge.position.at === 'drive') return;
      if (this.switches.loadMs) await new Promise((resume) => setTimeout(resume, this.switches.loadMs));
      const empty = this.drives.findIndex((d) => d.barcode === null);
      const number = empty >= 0 ? empty : this.drives.indexOf(this.drives.reduce((a, b) => (b.lastUsed < a.lastUsed ? b : a)));
      const slot = (cartridge.position as { number: number }).number;
      const back = this.drives[number]!.barcode;
      if (back !== null) this.place(this.box.cartridges.get(back)!, { at: 'slot', number: slot });
      this.place(cartridge, { at: 'drive', number });
      this.loads++;
    });
    this.moving = move.catch(() => undefined);
    return move;
  }

  append(barcode: string, data: Uint8Array): { record: number; used: number } {
    const cartridge = this.loaded(barcode);
    if (cartridge.writeProtected) throw new LibraryError(423, 'WRITE_PROTECTED', `${barcode} is write-protected`);
    if (cartridge.used + data.length > cartridge.capacity) throw new LibraryError(507, 'END_OF_MEDIUM', `${barcode} has no room for it`);
    return { record: this.box.append(cartridge, data), used: cartridge.used };
  }

  read(barcode: string, record: number, offset: number, length: number): Buffer {
    const cartridge = this.loaded(barcode);
    if (this.switches.worn.includes(barcode)) throw new LibraryError(500, 'UNREADABLE', `${barcode} can not be read at record ${record}`);
    const data = this.box.read(cartridge, record, offset, length);
    if (!data) throw new LibraryError(404, 'NO_RECORD', `${barcode} has no record ${record}`);
    return data;
  }

  /** Makes a cartridge empty, unless it holds another number of records than the caller knows of. */
  erase(barcode: string, records: number): void {
    const cartridge = this.loaded(barcode);
    if (cartridge.records !== records) throw new LibraryError(412, 'CHANGED', `${barcode} has ${cartridge.records} records`);
    if (cartridge.writeProtected) throw new LibraryError(423, 'WRITE_PROTECTED', `${barcode} is write-protected`);
    this.box.erase(cartridge);
  }

  /** What a person does: takes a cartridge out and puts it on the shelf. */
  takeOut(barcode: string): void {
    this.place(this.here(barcode), { at: 'shelf' });
  }

  /** What a person does: puts a cartridge of the shelf into a free slot. */
  bringIn(barcode: string): void {
    const cartridge = this.box.cartridges.get(barcode);
    if (!cartridge) throw new LibraryError(404, 'NOT_HERE', `there is no ${barcode}`);
    if (cartridge.position.at !== 'shelf') return;
    const number = this.freeSlot();
    if (number === undefined) throw new LibraryError(409, 'NO_SLOT', 'all slots are taken');
    this.place(cartridge, { at: 'slot', number });
  }

  /** What a person does: sets the slide on the cartridge that keeps it from being written. */
  protect(barcode: string, writeProtected: boolean): void {
    const cartridge = this.box.cartridges.get(barcode);
    if (!cartridge) throw new LibraryError(404, 'NOT_HERE', `there is no ${barcode}`);
    cartridge.writeProtected = writeProtected;
    this.box.keep(cartridge);
  }
}
