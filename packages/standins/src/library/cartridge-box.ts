import fs from 'node:fs';
import path from 'node:path';

/** Where a cartridge is: in a drive or a slot of the library, or on the shelf, where only people reach. */
export type Position = { readonly at: 'drive' | 'slot'; readonly number: number } | { readonly at: 'shelf' };

/** A cartridge as its chip and the robot know it. */
export interface Cartridge {
  readonly barcode: string;
  /** Bytes. */
  readonly capacity: number;
  /** Bytes written so far. */
  used: number;
  /** Records written so far; they count from 0. */
  records: number;
  writeProtected: boolean;
  position: Position;
}

interface Kept {
  readonly capacity: number;
  readonly writeProtected: boolean;
  readonly position: Position;
}

/** The cartridges, each a folder with a file per record. A record is whole or not there. */
export class CartridgeBox {
  readonly cartridges = new Map<string, Cartridge>();

  constructor(private readonly folder: string) {
    fs.mkdirSync(folder, { recursive: true });
    for (const barcode of fs.readdirSync(folder).sort()) this.load(barcode);
  }

  private load(barcode: string): void {
    const kept = JSON.parse(fs.readFileSync(this.fileOf(barcode, 'cartridge.json'), 'utf8')) as Kept;
    let [used, records] = [0, 0];
    for (; fs.existsSync(this.recordFile(barcode, records)); records++) used += fs.statSync(this.recordFile(barcode, records)).size;
    this.cartridges.set(barcode, { barcode, ...kept, used, records });
  }

  private fileOf(barcode: string, name: string): string {
    return path.join(this.folder, barcode, name);
  }

  private recordFile(barcode: string, record: number): string {
    return this.fileOf(barcode, `${String(record).padStart(8, '0')}.record`);
  }

  /** A new, empty cartridge. */
  add(barcode: string, capacity: number, position: Position): Cartridge {
    fs.mkdirSync(path.join(this.folder, barcode), { recursive: true });
    const cartridge: Cartridge = { barcode, capacity, used: 0, records: 0, writeProtected: false, position };
    this.cartridges.set(barcode, cartridge);
    this.keep(cartridge);
    return cartridge;
  }

  /** Makes position and protection of a cartridge last. */
  keep({ barcode, capacity, writeProtected, position }: Cartridge): void {
    const file = this.fileOf(barcode, 'cartridge.json');
    fs.writeFileSync(`${file}.new`, JSON.stringify({ capacity, writeProtected, position } satisfies Kept));
    fs.renameSync(`${file}.new`, file);
  }

  /** Writes a record behind the last one and returns its number. */
  append(cartridge: Cartridge, data: Uint8Array): number {
    const file = this.recordFile(cartridge.barcode, cartridge.records);
    fs.writeFileSync(`${file}.new`, data, { flush: true });
    fs.renameSync(`${file}.new`, file);
    cartridge.used += data.length;
    return cartridge.records++;
  }

  /** A part of a record; undefined when there is no such record. Shorter than asked at its end. */
  read(cartridge: Cartridge, record: number, offset: number, length: number): Buffer | undefined {
    if (record >= cartridge.records) return undefined;
    const fd = fs.openSync(this.recordFile(cartridge.barcode, record), 'r');
    try {
      const data = Buffer.alloc(Math.max(0, Math.min(length, fs.fstatSync(fd).size - offset)));
      return data.subarray(0, fs.readSync(fd, data, 0, data.length, offset));
    } finally {
      fs.closeSync(fd);
    }
  }

  erase(cartridge: Cartridge): void {
    for (let record = cartridge.records - 1; record >= 0; record--) fs.rmSync(this.recordFile(cartridge.barcode, record));
    cartridge.used = 0;
    cartridge.records = 0;
  }
}
