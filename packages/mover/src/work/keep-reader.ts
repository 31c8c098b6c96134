import { createHash } from 'node:crypto';
import { readFile } from 'node:fs/promises';
import { EngineError, threadFile, type Store } from '@lithodex/engine';

const [readerName, pageName, sumsName] = ['open/lithodex-reader.mjs', 'open/READ-ME.txt', 'open/sums'];

const page = `What is in this folder was written by Lithodex. Everything is encrypted; it opens with the key envelope
of this target and its passphrase, also when nothing else of Lithodex is left.

Needed: the folder that holds "lithodex-store.json" (copy a bucket to a folder with any program that speaks its
protocol), the key envelope (a file that ends with .key-envelope.json), its passphrase, and Node.js 20 or newer.

List the points:

    node open/lithodex-reader.mjs --envelope FILE --list

Bring all of a point back into a new folder, or one item of it:

    node open/lithodex-reader.mjs --envelope FILE --point ID --to NEW-FOLDER
    node open/lithodex-reader.mjs --envelope FILE --point ID --path P --to NEW-FOLDER

Every sum is checked as it is read. Machines come back as images of their disks, databases as dumps, mail as
messages. Run it as root where owners are to be what they were; attributes and access lists are not brought back
by this reader, but by Lithodex itself ("./lithodex extract").
`;

interface Kept {
  readonly files: ReadonlyMap<string, Buffer>;
  /** What is written last, and says that all of it is there. */
  readonly sums: string;
}

let known: Promise<Kept> | undefined;
const sumOf = (data: Uint8Array) => createHash('sha256').update(data).digest('hex');

async function load(): Promise<Kept> {
  const files = new Map([
    [readerName, await readFile(threadFile('reader'))],
    [pageName, Buffer.from(page)],
  ]);
  return { files, sums: [...files].map(([name, data]) => `${sumOf(data)}  ${name.slice('open/'.length)}\n`).join('') };
}

const readIfThere = async (store: Store, name: string): Promise<Buffer | undefined> => {
  try {
    return await store.target.read(name);
  } catch (error) {
    if (error instanceof EngineError && (error.code === 'OBJECT_MISSING' || error.code === 'OBJECT_DAMAGED')) return undefined;
    throw error;
  }
};

/**
 * Keeps beside a store what opens it without us: a reader in one file, and a page that says how. Written where their sums are not those of this version; `whole`: their bytes are read
 * too. Gives what was written. Throws NOT_OWNER, and what keeps a target from being written to.
 */
export async function keepReader(store: Store, { whole = false } = {}): Promise<readonly string[]> {
  // cartridges would have to be loaded for it
  if (store.installation === undefined || store.target.place.kind === 'cartridges') return [];
  const { files, sums } = await (known ??= load());
  const current = (await readIfThere(store, sumsName))?.toString() === sums;
  const written: string[] = [];
  for (const [name, data] of files) {
    if (current && !(whole && !(await readIfThere(store, name))?.equals(data))) continue;
    if (!written.length) await store.assertOwned();
    await store.target.put(name, data);
    written.push(name);
  }
  if (!current) await store.target.put(sumsName, Buffer.from(sums));
  return written;
}
