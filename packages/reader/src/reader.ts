import { readFileSync } from 'node:fs';
import path from 'node:path';
import { createInterface } from 'node:readline/promises';
import { parseArgs } from 'node:util';
import { countOf, formatBytes, unescapePath } from '@lithodex/core';
import { DiskFolder, openEnvelope, openHeaderWithKeys, parseEnvelope, Store, topEntry, type Root } from '@lithodex/engine';
import { entryAt, newFolder, TreePlacer } from './place-tree';

const usage = `Reads a target of Lithodex with its key envelope: no server, no database, nothing installed but Node.js 20 or newer.

  node lithodex-reader.mjs --envelope FILE [--store DIR] --list
  node lithodex-reader.mjs --envelope FILE [--store DIR] --point ID [--path P] --to DIR

  --store DIR       folder of the target; the one above this file where none is said. Copy a bucket to a folder first.
  --envelope FILE   its key envelope; the passphrase is asked for, or taken from LITHODEX_PASSPHRASE
  --list            list the points, oldest first
  --point ID        bring back all of a point, or with --path one item of it, into a folder that is new
`;

type Say = (line: string) => void;

async function passphrase(): Promise<string> {
  const given = process.env['LITHODEX_PASSPHRASE'];
  if (given !== undefined) return given;
  const lines = createInterface({ input: process.stdin, output: process.stderr });
  try {
    return await lines.question('Passphrase of the envelope: ');
  } finally {
    lines.close();
  }
}

async function rootsOf(store: Store, say: Say): Promise<Root[]> {
  const roots: Root[] = [];
  for (const point of await store.listPoints())
    try {
      const root = await store.listedRoot(point);
      if (root) roots.push(root);
    } catch (error) {
      say(`A point can not be read: ${error instanceof Error ? error.message : String(error)}`);
    }
  return roots.sort((a, b) => a.moment - b.moment);
}

function lineOf({ taskId, moment, workload, kind, totals }: Root): string {
  const when = new Date(moment).toISOString().slice(0, 16).replace('T', ' ');
  return `${taskId}  ${when} UTC  ${workload.name}  ${kind}  ${countOf(totals.items, 'item')}, ${formatBytes(totals.bytes)}`;
}

/** The command. `here`: the folder above the one that this file lies in. Returns the exit status. Throws what keeps the store closed. */
export async function read(args: string[], here: string, say: Say): Promise<number> {
  const text = { type: 'string' } as const;
  const options = { store: text, envelope: text, list: { type: 'boolean' }, point: text, path: text, to: text } as const;
  const { values } = parseArgs({ args, options });
  if (!values.envelope || (!values.list && !(values.point && values.to))) {
    say(usage);
    return 2;
  }
  const target = new DiskFolder(path.resolve(values.store ?? here));
  const keys = openEnvelope(parseEnvelope(readFileSync(values.envelope, 'utf8')), await passphrase());
  const store = await Store.withKeys(target, await openHeaderWithKeys(target, keys), keys);
  await store.index.adopt();
  const roots = await rootsOf(store, say);
  if (values.list) {
    for (const root of roots) say(lineOf(root));
    say(countOf(roots.length, 'point'));
    return 0;
  }
  const root = roots.find((r) => r.taskId === values.point);
  if (!root) throw new Error(`There is no point ${values.point}; --list shows them.`);
  const entry = await entryAt(store, root, topEntry(root), unescapePath(values.path ?? ''));
  const to = newFolder(values.to!);
  const placer = new TreePlacer(store, say);
  if (values.path) await placer.place(entry, to, '');
  else await placer.placeChildren(entry, to, '');
  const { items, bytes, failed } = placer.placed;
  say(
    `${countOf(items, 'item')}, ${formatBytes(bytes)} brought back to ${to.toString()}; ${failed ? `${countOf(failed, 'item')} failed` : 'every sum checked'}`,
  );
  return failed ? 1 : 0;
}
