import { createHash } from 'node:crypto';
import { mostFinds, mostNotes, type RuleSource, type ScanFind, type ScanNote, type SeenFile, type Tells } from '@lithodex/contract';
import { fileContent, SlidingWork, type FoundItem, type OpenPoint } from '@lithodex/connectors';
import { EngineError, type Root } from '@lithodex/engine';
import type { CommandScanner } from './command-scanner';
import { Counts, onceEach, type ContentTold, type FoundWithin } from './content-look';
import { LookPool } from './look-pool';
import { holdsParts } from './parts-within';
import { pointSteps } from './point-steps';

/** What was found in a point. Paths are byte strings. */
export interface ScannedPoint {
  readonly items: number;
  readonly bytes: number;
  readonly read: number;
  readonly notLooked: number;
  readonly suspect: number;
  readonly infected: number;
  readonly finds: ScanFind[];
  /** Items that could not be looked into. */
  readonly notes: ScanNote[];
  /** There are none beside these. */
  readonly toldAll: boolean;
}

/** Items that changed or went, and those that went with all that lay in them. */
export interface Gone {
  readonly items: string[];
  readonly below: string[];
}

/** Where what was found goes meanwhile. */
export interface ScanSink {
  /** Files that were looked into, and items that changed or went. */
  seen(files: readonly SeenFile[], gone: Gone): Promise<void>;
  note(path: string, why: string): void;
  looked(bytes: number): void;
  stopped(): boolean;
}

/** What is looked for. */
export interface ScanBy {
  readonly rules: readonly RuleSource[];
  readonly sensitive: boolean;
  readonly scanner?: CommandScanner<Pending> | undefined;
}

/** A file that waits for the scanner. */
export interface Pending {
  readonly path: string;
  readonly size: number;
  sum: string;
}

type Look = ContentTold & { readonly read: number };

const atOnce = 6;
const batch = 2000;
/** A content up to this size is looked into as a whole, a larger one in windows that lap over. Bytes. */
const wholeUpTo = 64 << 20;
const windowBytes = 32 << 20;
const lap = 64 << 10;
/** Contents that are remembered, so that the same bytes are looked into once however many points hold them. */
const mostRemembered = 200_000;
/** What is remembered of most of them. */
const nothing: Omit<ContentTold, 'sum'> = { finds: [], counts: [], notLooked: '' };
const mostPatterns = 60;
const mostWhy = 300;

/** Looks into the points of a series, one after another. */
export class PointScanner {
  private readonly pool: LookPool;
  /** By item, what is found in the point that was looked into last. */
  private readonly finds = new Map<string, ScanFind[]>();
  private readonly notes = new Map<string, string>();
  private readonly remembered = new Map<string, ContentTold>();

  /** Throws Error with what is wrong in the rules. */
  constructor(
    private readonly by: ScanBy,
    private readonly sink: ScanSink,
  ) {
    this.pool = new LookPool({ rules: by.rules, sensitive: by.sensitive });
  }

  /** Takes over what is known of a point. */
  know(finds: readonly ScanFind[], notes: readonly ScanNote[]): void {
    for (const { path, why } of notes) this.notes.set(path, why);
    for (const find of finds) this.finds.set(find.path, [...(this.finds.get(find.path) ?? []), find]);
  }

  /** Forgets all that is known, where what comes is not compared with what was before. */
  begin(): void {
    this.finds.clear();
    this.notes.clear();
  }

  /** Ends its threads. */
  close(): Promise<void> {
    return this.pool.close();
  }

  /** Looks into a point, as far as it differs from the one before; `tells`: what is told of its files. Throws what targets fail with, ScannerError, STOPPED. */
  async scan(
    before: OpenPoint | undefined,
    now: OpenPoint,
    tells: Tells = { sums: true, sensitive: this.by.sensitive },
  ): Promise<ScannedPoint> {
    const { scanner } = this.by;
    const sums = { items: 0, bytes: 0, read: 0 };
    const work = new SlidingWork(scanner ? 1 : atOnce);
    const telling = tells.sums || tells.sensitive;
    let files: SeenFile[] = [];
    let gone: Gone = { items: [], below: [] };
    const send = async () => {
      const [told, left] = [files, gone];
      files = [];
      gone = { items: [], below: [] };
      if (told.length || left.items.length || left.below.length) await this.sink.seen(told, left);
    };
    for await (const step of pointSteps(before, now)) {
      if (this.sink.stopped()) throw new EngineError('STOPPED');
      if (step.do === 'note') {
        this.note(step.path, step.why);
        continue;
      }
      if (step.do === 'forget') {
        this.forget(step.path, step.below);
        if (telling && before) (step.below ? gone.below : gone.items).push(step.path);
      } else {
        const { path, item } = step;
        // one is read after the other, as they lie; what was read is looked into meanwhile
        const looking = await this.intoItem(path, item, step.inside);
        await work.add(async () => {
          const seen = await looking();
          sums.items++;
          sums.bytes += item.entry.size;
          sums.read += seen.read;
          this.sink.looked(seen.read);
          if (telling) files.push({ path, ...whoseOf(now.root, item.entry), ...ofContent(seen, tells) });
        });
      }
      // one that went before it came is told first
      if (files.length >= batch || gone.items.length >= batch) {
        await work.idle();
        await send();
      }
      if (scanner?.isFull) await this.runScanner(work);
    }
    await this.runScanner(work);
    await send();
    return { ...sums, ...this.told() };
  }

  /** Reads an item; what it resolves with waits until it is looked into. */
  private async intoItem(path: string, item: Pick<FoundItem, 'tree' | 'entry'>, inside: boolean): Promise<() => Promise<Look>> {
    const { scanner } = this.by;
    const { entry } = item;
    const key = inside || scanner ? undefined : keyOf(entry);
    const known = key === undefined ? undefined : this.remembered.get(key);
    const pending: Pending = { path, size: entry.size, sum: '' };
    const file = scanner?.file(pending);
    const content = told(fileContent(item.tree, entry), file?.write);
    const looking = known
      ? Promise.resolve({ ...known, read: 0 })
      : entry.size > wholeUpTo
        ? Promise.resolve(await this.byWindows(content))
        : this.asWhole(await gathered(content));
    // told where it is waited for
    looking.catch(() => undefined);
    if (file) await looking.finally(file.done);
    return async () => {
      const seen = await looking;
      pending.sum = seen.sum;
      if (key !== undefined && !known && this.remembered.size < mostRemembered)
        this.remembered.set(key, seen.finds.length || seen.counts.length || seen.notLooked ? seen : { ...nothing, sum: seen.sum });
      if (seen.finds.length)
        this.finds.set(
          path,
          seen.finds.map((f) => ({ ...f, path, size: entry.size, sum: seen.sum })),
        );
      if (seen.notLooked !== '') this.note(path, seen.notLooked);
      return seen;
    };
  }

  private async asWhole(data: Buffer): Promise<Look> {
    const read = data.length;
    return { ...(await this.pool.look(data, true)), read };
  }

  private async byWindows(content: AsyncIterable<Buffer>): Promise<Look> {
    const finds: FoundWithin[] = [];
    const counts = new Counts();
    const sum = createHash('sha256');
    let read = 0;
    let opens: boolean | undefined;
    let pieces: Buffer[] = [];
    let held = 0;
    const look = async (window: Buffer) => {
      opens ??= holdsParts(window);
      const told = await this.pool.look(window, false);
      finds.push(...told.finds);
      counts.add(told.counts);
    };
    for await (const piece of content) {
      sum.update(piece);
      read += piece.length;
      pieces.push(piece);
      held += piece.length;
      if (held < windowBytes) continue;
      const window = Buffer.concat(pieces);
      const kept = Buffer.from(window.subarray(-lap));
      await look(window);
      pieces = [kept];
      held = kept.length;
    }
    await look(Buffer.concat(pieces));
    const notLooked = opens ? 'it is too large to be opened' : '';
    return { finds: onceEach(finds), counts: counts.rows, sum: sum.digest('hex'), read, notLooked };
  }

  private async runScanner(work: SlidingWork): Promise<void> {
    await work.idle();
    for (const [{ path, size, sum }, find] of (await this.by.scanner?.scan()) ?? [])
      this.finds.set(path, [...(this.finds.get(path) ?? []), { ...find, path, within: '', size, sum }]);
  }

  private note(path: string, why: string): void {
    this.notes.set(path, why);
    this.sink.note(path, why);
  }

  private forget(path: string, below: boolean): void {
    for (const known of [this.finds, this.notes]) {
      known.delete(path);
      if (below) for (const key of known.keys()) if (key.startsWith(`${path}/`)) known.delete(key);
    }
  }

  private told(): Omit<ScannedPoint, 'items' | 'bytes' | 'read'> {
    const items = [...this.finds.values()];
    const finds = items.flat();
    const infected = items.filter((finds) => finds.some((f) => f.grade === 'infected')).length;
    return {
      notLooked: this.notes.size,
      infected,
      suspect: items.length - infected,
      finds: finds.slice(0, mostFinds),
      notes: Array.from(this.notes, ([path, why]) => ({ path, why: why.slice(0, mostWhy) })).slice(0, mostNotes),
      toldAll: finds.length <= mostFinds && this.notes.size <= mostNotes,
    };
  }
}

async function* told(content: AsyncIterable<Buffer>, onPiece: ((piece: Buffer) => void) | undefined): AsyncGenerator<Buffer> {
  for await (const piece of content) {
    onPiece?.(piece);
    yield piece;
  }
}

async function gathered(content: AsyncIterable<Buffer>): Promise<Buffer> {
  const pieces: Buffer[] = [];
  for await (const piece of content) pieces.push(piece);
  // a copy: what is read may be kept for whoever reads it next
  return Buffer.concat(pieces);
}

/** What stands for a stored content in its store. */
function keyOf({ content, size }: FoundItem['entry']): string | undefined {
  if (!content) return undefined;
  return `${size} ${('lists' in content ? content.lists : content.names).toString('base64')}`;
}

const ofContent = ({ sum, counts }: ContentTold, tells: Tells): Pick<SeenFile, 'sum' | 'counts'> => ({
  sum: tells.sums ? sum : '',
  counts: tells.sensitive ? counts.slice(0, mostPatterns) : [],
});

function whoseOf(root: Root, { uid, mode, size }: FoundItem['entry']): Pick<SeenFile, 'owner' | 'mode' | 'size'> {
  return { size, owner: (root.owners[String(uid)] ?? String(uid)).slice(0, 120), mode };
}
