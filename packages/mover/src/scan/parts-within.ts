import { Readable } from 'node:stream';
import { gunzipSync } from 'node:zlib';
import PostalMime from 'postal-mime';
import { extract } from 'tar-stream';
import yauzl from 'yauzl';

/** A content inside another one: a file of an archive, an attachment. */
export interface PartWithin {
  readonly name: string;
  readonly data: Buffer;
}

/** Why what is inside could not be looked into, in words. */
export class NotOpened extends Error {}

/** What may be unpacked of one item, all that is inside what is inside it included: an archive may be made to have no end. */
export class Room {
  constructor(
    private bytes = 512 << 20,
    private parts = 20_000,
  ) {}

  /** Throws NotOpened where there is no room for it. */
  take(bytes: number): void {
    this.bytes -= bytes;
    this.parts--;
    if (this.bytes < 0 || this.parts < 0) throw new NotOpened('it holds more than what is unpacked');
  }

  get left(): number {
    return this.bytes;
  }
}

/** One content that is inside another. Bytes. */
const largestPart = 128 << 20;
const ustarAt = 257;

const begins = (data: Buffer, ...bytes: number[]) => bytes.every((b, i) => data[i] === b);
/** A message begins with a line of its head, and says somewhere in it how it is made up. */
export const looksLikeMail = (data: Buffer): boolean => {
  const front = data.subarray(0, 16_384).toString('latin1');
  return /^(?:From |[A-Za-z][A-Za-z-]{1,60}: )/.test(front) && /\n(?:mime-version|content-type):/i.test(front);
};

type Format = (data: Buffer, room: Room) => AsyncIterable<PartWithin> | Iterable<PartWithin>;

/** The format of a content that holds others, by its first bytes; undefined for one that holds none. */
function formatOf(data: Buffer): Format | undefined {
  if (begins(data, 0x50, 0x4b, 3, 4)) return zipParts;
  if (begins(data, 0x1f, 0x8b)) return (content, room) => [gunzipped(content, room)];
  if (data.subarray(ustarAt, ustarAt + 5).equals(Buffer.from('ustar'))) return tarParts;
  return looksLikeMail(data) ? mailParts : undefined;
}

const deepest = 6;

/** A content, and where it lies inside the one that it was found in; '' for that itself. */
export interface Within {
  readonly within: string;
  readonly content: Buffer;
}

/** A content and all that is inside it, the outer before the inner. `onTrouble` is told why something was not opened. */
export async function* allWithin(data: Buffer, onTrouble: (why: string) => void = () => undefined): AsyncGenerator<Within> {
  const room = new Room();
  const go = async function* (content: Buffer, within: string, depth: number): AsyncGenerator<Within> {
    yield { within, content };
    if (!holdsParts(content)) return;
    if (depth >= deepest) {
      onTrouble('archives in archives go on too deep');
      return;
    }
    try {
      for await (const part of partsWithin(content, room))
        yield* go(part.data, within === '' ? part.name : `${within} → ${part.name}`.slice(0, 2000), depth + 1);
    } catch (error) {
      if (!(error instanceof NotOpened)) throw error;
      onTrouble(error.message);
    }
  };
  yield* go(data, '', 0);
}

/** Whether a content, or one that begins so, holds others. */
export const holdsParts = (front: Buffer): boolean => formatOf(front) !== undefined;

/** What is directly inside a content, where its format is known by its first bytes. Throws NotOpened for what is damaged, closed by a password or too large. */
export async function* partsWithin(data: Buffer, room: Room): AsyncGenerator<PartWithin> {
  const format = formatOf(data);
  if (format) yield* format(data, room);
}

function gunzipped(data: Buffer, room: Room): PartWithin {
  try {
    const unpacked = gunzipSync(data, { maxOutputLength: Math.max(1, Math.min(largestPart, room.left)) });
    room.take(unpacked.length);
    return { name: 'unpacked', data: unpacked };
  } catch (error) {
    if (error instanceof NotOpened) throw error;
    throw new NotOpened(
      (error as { code?: string }).code === 'ERR_BUFFER_TOO_LARGE' ? 'it holds more than what is unpacked' : 'it is damaged',
    );
  }
}

async function* tarParts(data: Buffer, room: Room): AsyncGenerator<PartWithin> {
  const reading = extract();
  reading.on('error', () => undefined);
  Readable.from([data]).pipe(reading);
  try {
    for await (const entry of reading) {
      const pieces: Buffer[] = [];
      for await (const piece of entry as AsyncIterable<Buffer>) pieces.push(piece);
      if (entry.header.type !== 'file' && entry.header.type !== 'contiguous-file') continue;
      const content = Buffer.concat(pieces);
      room.take(content.length);
      yield { name: entry.header.name, data: content };
    }
  } catch (error) {
    throw error instanceof NotOpened ? error : new NotOpened('it is damaged');
  }
}

function openZip(data: Buffer): Promise<yauzl.ZipFile> {
  return new Promise((resolve, reject) => {
    yauzl.fromBuffer(data, { lazyEntries: true, validateEntrySizes: true, strictFileNames: false }, (error, zip) => {
      if (error) reject(new NotOpened('it is damaged'));
      else resolve(zip);
    });
  });
}

const nextEntry = (zip: yauzl.ZipFile) =>
  new Promise<yauzl.Entry | undefined>((resolve, reject) => {
    const done = (act: () => void) => {
      zip.removeAllListeners();
      act();
    };
    zip.once('entry', (entry: yauzl.Entry) => {
      done(() => {
        resolve(entry);
      });
    });
    zip.once('end', () => {
      done(() => {
        resolve(undefined);
      });
    });
    zip.once('error', () => {
      done(() => {
        reject(new NotOpened('it is damaged'));
      });
    });
    zip.readEntry();
  });

function contentOf(zip: yauzl.ZipFile, entry: yauzl.Entry): Promise<Buffer> {
  return new Promise((resolve, reject) => {
    zip.openReadStream(entry, (error, stream) => {
      if (error) {
        reject(new NotOpened('it is damaged'));
        return;
      }
      const pieces: Buffer[] = [];
      stream.on('data', (piece: Buffer) => pieces.push(piece));
      stream.on('error', () => {
        reject(new NotOpened('it is damaged'));
      });
      stream.on('end', () => {
        resolve(Buffer.concat(pieces));
      });
    });
  });
}

const encrypted = 1;
/** One entry that can't be read hides none of the others. */
async function* zipParts(data: Buffer, room: Room): AsyncGenerator<PartWithin> {
  const zip = await openZip(data);
  let trouble = '';
  for (let entry = await nextEntry(zip); entry; entry = await nextEntry(zip)) {
    if (entry.fileName.endsWith('/')) continue;
    if (entry.generalPurposeBitFlag & encrypted) {
      trouble ||= 'it asks for a password';
      continue;
    }
    if (entry.uncompressedSize > largestPart) {
      trouble ||= 'it holds more than what is unpacked';
      continue;
    }
    // said sizes are checked while it is unpacked
    room.take(entry.uncompressedSize);
    const content = await contentOf(zip, entry).catch(() => undefined);
    if (content) yield { name: entry.fileName, data: content };
    else trouble ||= 'it is damaged';
  }
  if (trouble) throw new NotOpened(trouble);
}

async function* mailParts(data: Buffer, room: Room): AsyncGenerator<PartWithin> {
  const mail = await PostalMime.parse(data).catch(() => {
    throw new NotOpened('it is damaged');
  });
  const texts: [string, string | undefined][] = [
    ['text', mail.text],
    ['formatted text', mail.html],
  ];
  for (const [name, text] of texts) {
    if (!text) continue;
    const part = Buffer.from(text);
    room.take(part.length);
    yield { name, data: part };
  }
  for (const [i, { filename, content }] of mail.attachments.entries()) {
    const part = typeof content === 'string' ? Buffer.from(content) : Buffer.from(content as ArrayBuffer);
    room.take(part.length);
    yield { name: filename ?? `attachment ${i + 1}`, data: part };
  }
}
