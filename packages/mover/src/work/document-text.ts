import { execFile } from 'node:child_process';
import { rmSync } from 'node:fs';
import { open, writeFile } from 'node:fs/promises';
import path from 'node:path';
import { promisify } from 'node:util';
import yauzl from 'yauzl';
import type { AnswerTo, PointRef } from '@lithodex/contract';
import { fileContent, findItem, ownFolder, type FoundItem } from '@lithodex/connectors';
import { EngineError, systemCode } from '@lithodex/engine';
import { openPoint } from './open-point';
import type { Stores } from './stores';
import { walked } from './look-inside-item';

/** Larger documents are not opened. Bytes. */
const mostBytes = 64 << 20;
/** Of one part of a document, unpacked. Bytes. */
const mostUnpacked = 16 << 20;
const mostText = 200_000;
const mostParts = 300;
const pdfMs = 15_000;
/** What the program that reads a PDF may take: memory and time, in bytes and seconds, and no file of its own. */
const bounds = ['--as=1073741824', '--cpu=10', '--fsize=0', '--nproc=32'];

type Text = AnswerTo<'documentText'>;
const none = (why: string): Text => ({ text: null, of: '', why });

/** The text of a document of a point, in a format that is known: none of what it holds runs. Throws PATH_MISSING. */
export async function documentText(stores: Stores, point: PointRef, wanted: string): Promise<Text> {
  return textOfItem(await findItem(await openPoint(stores, point), wanted, walked));
}

/** The same of an item that was found. */
export async function textOfItem(found: Pick<FoundItem, 'tree' | 'entry'>): Promise<Text> {
  if (found.entry.kind !== 'file' || found.entry.unread) throw new EngineError('PATH_MISSING', 'no file that can be read');
  if (found.entry.size > mostBytes) return none('it is larger than what is opened as a document');
  const folder = ownFolder('shown');
  try {
    const file = path.join(folder, 'document');
    const front = await keep(found, file);
    if (front.startsWith('%PDF-')) return await textOfPdf(file);
    return front.startsWith('PK\x03\x04') ? await textOfOffice(file) : none('it is no document that is known');
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}

/** Writes a file where programs can read it; gives its first bytes as text. */
async function keep({ tree, entry }: Pick<FoundItem, 'tree' | 'entry'>, file: string): Promise<string> {
  const handle = await open(file, 'wx', 0o600);
  let front = '';
  try {
    for await (const piece of fileContent(tree, entry)) {
      if (front.length < 8) front += piece.subarray(0, 8).toString('latin1');
      await handle.write(piece);
    }
  } finally {
    await handle.close();
  }
  return front;
}

/** The text of a PDF that is held already; undefined where it has none that can be read. */
export async function textOfPdfBytes(data: Buffer): Promise<string | undefined> {
  const folder = ownFolder('shown');
  try {
    const file = path.join(folder, 'document');
    await writeFile(file, data, { mode: 0o600 });
    return (await textOfPdf(file)).text ?? undefined;
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}

/** By a program of its own, held to bounds: what is wrong in a PDF is wrong there. */
async function textOfPdf(file: string): Promise<Text> {
  try {
    const { stdout } = await promisify(execFile)('prlimit', [...bounds, 'pdftotext', '-q', '-l', '100', '-enc', 'UTF-8', file, '-'], {
      timeout: pdfMs,
      killSignal: 'SIGKILL',
      maxBuffer: mostText * 4,
      env: { PATH: process.env['PATH'] },
    });
    return { text: plain(stdout), of: 'PDF', why: '' };
  } catch (error) {
    if (systemCode(error) === 'ENOENT' || (error as { code?: unknown }).code === 127)
      return none('the mover has no program that reads PDF (package poppler-utils)');
    return none('it is damaged, or asks for a password');
  }
}

interface Format {
  readonly of: string;
  /** Which parts of the archive hold its text. */
  readonly holds: RegExp;
}
const formats: readonly Format[] = [
  { of: 'text document', holds: /^word\/document\.xml$/ },
  { of: 'presentation', holds: /^ppt\/slides\/slide\d+\.xml$/ },
  { of: 'spreadsheet', holds: /^xl\/sharedStrings\.xml$/ },
  { of: 'document', holds: /^content\.xml$/ },
];

async function textOfOffice(file: string): Promise<Text> {
  try {
    const parts = await unpack(file, (name) => formats.some((f) => f.holds.test(name)));
    const format = formats.find((f) => parts.some(([name]) => f.holds.test(name)));
    if (!format) return none('it is an archive, and no document that is known');
    const texts = parts
      .filter(([name]) => format.holds.test(name))
      .sort(([a], [b]) => a.localeCompare(b, 'en', { numeric: true }))
      .map(([, xml]) => textOfXml(xml));
    return { text: plain(texts.join('\n\n')), of: format.of, why: '' };
  } catch {
    return none('it is damaged, or larger inside than what is opened');
  }
}

/** Parts of an archive by their names, none unpacked further than is allowed. Rejects for what is no archive. */
function unpack(file: string, wanted: (name: string) => boolean): Promise<[string, string][]> {
  return new Promise((resolve, reject) => {
    yauzl.open(file, { lazyEntries: true, validateEntrySizes: true }, (failed, zip) => {
      if (failed) {
        reject(failed);
        return;
      }
      const parts: [string, string][] = [];
      const end = (error: Error) => {
        zip.close();
        reject(error);
      };
      zip.on('error', end).on('end', () => {
        resolve(parts);
      });
      zip.on('entry', (entry: yauzl.Entry) => {
        if (!wanted(entry.fileName)) {
          zip.readEntry();
          return;
        }
        if (entry.uncompressedSize > mostUnpacked || parts.length >= mostParts) {
          end(new Error('too large'));
          return;
        }
        zip.openReadStream(entry, (refused, stream) => {
          if (refused) {
            end(refused);
            return;
          }
          const pieces: Buffer[] = [];
          stream.on('error', end);
          stream.on('data', (piece: Buffer) => pieces.push(piece));
          stream.on('end', () => {
            parts.push([entry.fileName, Buffer.concat(pieces).toString('utf8')]);
            zip.readEntry();
          });
        });
      });
      zip.readEntry();
    });
  });
}

const entities: Readonly<Record<string, string>> = { lt: '<', gt: '>', amp: '&', quot: '"', apos: "'" };

/** What is between the tags; ends of paragraphs and rows are ends of lines. Entities that a document defines are left as they are. */
export function textOfXml(xml: string): string {
  return xml
    .replace(/<(?:w:tab|text:tab)\b[^<>]*>/g, '\t')
    .replace(/<\/(?:w:p|a:p|text:p|text:h|si|table:table-row)>|<(?:w:br|text:line-break)\b[^<>]*>/g, '\n')
    .replace(/<[^<>]*>/g, '')
    .replace(/&(?:#(\d{1,7})|#x([0-9a-fA-F]{1,6})|(\w{1,5}));/g, (whole, decimal?: string, hex?: string, name?: string) => {
      if (name !== undefined) return entities[name] ?? whole;
      const code = decimal === undefined ? parseInt(hex!, 16) : Number(decimal);
      return code <= 0x10ffff && !(code >= 0xd800 && code < 0xe000) ? String.fromCodePoint(code) : whole;
    });
}

/** Without what steers a terminal. */
const plain = (text: string) =>
  text
    .replace(/[^\P{Cc}\t\n]/gu, '')
    .trim()
    .slice(0, mostText);
