import fs from 'node:fs';
import path from 'node:path';
import type { RecordHead } from './cartridge-record';

/** A record of a cartridge, as it is noted in the folder of the set. */
export interface NotedRecord {
  readonly record: number;
  /** Where the object begins in the record, in bytes. */
  readonly at: number;
  readonly head: RecordHead;
}

/** Where an object is. */
export interface Spot {
  readonly barcode: string;
  readonly record: number;
  readonly at: number;
  readonly bytes: number;
}

/** A cartridge of the set and what it is known to hold. */
export interface KnownCartridge {
  readonly barcode: string;
  /** Cartridges of a set are written one after another, in this order. */
  readonly number: number;
  /** Records known, from the first on. */
  readonly records: number;
  /** Bytes of objects on it, and of those that still count. */
  readonly written: number;
  readonly live: number;
  /** Nothing on it counts any more. */
  readonly spent: boolean;
}

/**
 * Notes of what is on which cartridge, a file per cartridge and use of it in the folder of the set with a line per record, so that nothing must be loaded to know. They can be
 * made again by reading the cartridges. Several threads and processes add to them; a line that is written twice says the same.
 */
export class CartridgeContents {
  private readonly records = new Map<string, NotedRecord[]>();
  /** What was read of the notes of a cartridge: of which use, and how many bytes. */
  private readonly readTo = new Map<string, { readonly number: number; readonly bytes: number }>();
  private spots: Map<string, Spot> | undefined;

  constructor(private readonly folder: string) {}

  private fileOf(barcode: string, number: number): string {
    return path.join(this.folder, `${barcode}-${number}.records`);
  }

  /** Reads what others have noted since. */
  refresh(): void {
    fs.mkdirSync(this.folder, { recursive: true, mode: 0o700 });
    const found = new Map<string, number>();
    for (const name of fs.readdirSync(this.folder)) {
      const [, barcode, number] = /^(.+)-(\d+)\.records$/.exec(name) ?? [];
      if (barcode) found.set(barcode, Math.max(Number(number), found.get(barcode) ?? 0));
    }
    for (const barcode of this.records.keys()) if (found.get(barcode) !== this.numberOf(barcode)) this.drop(barcode);
    for (const [barcode, number] of found) this.readNotes(barcode, number);
  }

  private readNotes(barcode: string, number: number): void {
    const size = fs.statSync(this.fileOf(barcode, number), { throwIfNoEntry: false })?.size ?? 0;
    const known = this.readTo.get(barcode);
    if (known?.number === number && known.bytes === size) return;
    if (known && (known.number !== number || size < known.bytes)) this.drop(barcode);
    const from = this.readTo.get(barcode)?.bytes ?? 0;
    const text = size ? fs.readFileSync(this.fileOf(barcode, number)).subarray(from).toString('latin1') : '';
    const whole = text.slice(0, text.lastIndexOf('\n') + 1);
    for (const line of whole.split('\n')) {
      const noted = parsed(line);
      if (noted) this.take(barcode, noted);
    }
    this.readTo.set(barcode, { number, bytes: from + whole.length });
  }

  private drop(barcode: string): void {
    this.records.delete(barcode);
    this.readTo.delete(barcode);
    this.spots = undefined;
  }

  private take(barcode: string, noted: NotedRecord): void {
    const list = this.records.get(barcode) ?? [];
    this.records.set(barcode, list);
    if (list[noted.record]) return;
    list[noted.record] = noted;
    const last = noted.record === list.length - 1 && this.inOrder.at(-1) === barcode;
    if (this.spots && last && noted.record > 0) apply(this.spots, barcode, noted);
    else this.spots = undefined;
  }

  /** Notes a record, the label of the cartridge first. */
  note(barcode: string, noted: NotedRecord): void {
    const number = 'label' in noted.head && noted.record === 0 ? noted.head.label.number : this.numberOf(barcode);
    // a line begins with a line break, in case the one before was cut short
    fs.appendFileSync(this.fileOf(barcode, number), `\n${JSON.stringify(noted)}\n`, { mode: 0o600 });
    this.take(barcode, noted);
  }

  /** Forgets a cartridge that was erased. */
  forget(barcode: string): void {
    fs.rmSync(this.fileOf(barcode, this.numberOf(barcode)), { force: true });
    this.drop(barcode);
  }

  /** Records known of a cartridge, from the first on without a gap. */
  known(barcode: string): number {
    const list = this.records.get(barcode) ?? [];
    let count = 0;
    while (list[count]) count++;
    return count;
  }

  private numberOf(barcode: string): number {
    const head = this.records.get(barcode)?.[0]?.head;
    return head && 'label' in head ? head.label.number : -1;
  }

  private get inOrder(): string[] {
    return [...this.records.keys()]
      .filter((barcode) => this.numberOf(barcode) >= 0)
      .sort((a, b) => this.numberOf(a) - this.numberOf(b) || (a < b ? -1 : 1));
  }

  /** Where every object is that counts: of a name the record written last, unless it was removed since. */
  live(): ReadonlyMap<string, Spot> {
    if (this.spots) return this.spots;
    const spots = new Map<string, Spot>();
    for (const barcode of this.inOrder) for (const noted of this.records.get(barcode)!) if (noted) apply(spots, barcode, noted);
    this.spots = spots;
    return spots;
  }

  /** The cartridges of the set, in the order they were written. */
  cartridges(): KnownCartridge[] {
    const live = new Map<string, number>();
    for (const { barcode, bytes } of this.live().values()) live.set(barcode, (live.get(barcode) ?? 0) + bytes);
    const order = this.inOrder;
    return order.map((barcode) => {
      const written = this.records.get(barcode)!.reduce((sum, { head }) => sum + ('bytes' in head ? head.bytes : 0), 0);
      return {
        barcode,
        number: this.numberOf(barcode),
        records: this.known(barcode),
        written,
        live: live.get(barcode) ?? 0,
        spent: !live.has(barcode) && this.removals(barcode).every((name) => !this.stands(name, barcode)),
      };
    });
  }

  private removals(barcode: string): string[] {
    return this.records.get(barcode)!.flatMap(({ head }) => ('removes' in head ? [head.removes] : []));
  }

  /** Whether another cartridge still has a record of this name, which would count again without its removal. */
  private stands(name: string, besides: string): boolean {
    return [...this.records].some(
      ([barcode, list]) => barcode !== besides && list.some(({ head }) => 'name' in head && head.name === name),
    );
  }
}

/** A line that was cut short by a crash says nothing; its record is read from the cartridge again. */
function parsed(line: string): NotedRecord | undefined {
  try {
    return line ? (JSON.parse(line) as NotedRecord) : undefined;
  } catch {
    return undefined;
  }
}

function apply(spots: Map<string, Spot>, barcode: string, { record, at, head }: NotedRecord): void {
  if ('removes' in head) spots.delete(head.removes);
  else if ('name' in head) {
    spots.delete(head.name);
    spots.set(head.name, { barcode, record, at, bytes: head.bytes });
  }
}
