import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import path from 'node:path';
import { createInterface } from 'node:readline/promises';
import { parseArgs } from 'node:util';
import { findItem, threadsOf, HostLimits, Placer, PlacePool, Restorer } from '@lithodex/connectors';
import { bytesOfText, countOf, escapePath, formatBytes, unescapePath } from '@lithodex/core';
import {
  EngineError,
  openEnvelope,
  openHeaderWithKeys,
  parseEnvelope,
  Store,
  targetAt,
  topEntry,
  type Root,
  type TargetPlace,
} from '@lithodex/engine';

const usage = `extract brings data back from a store with its key alone: no server, no database.

  --store DIR | URL                folder of the target, or http(s)://host/bucket/prefix with the keys of the bucket in
                                   LITHODEX_ACCESS_KEY and LITHODEX_SECRET_KEY (and its region in LITHODEX_REGION),
                                   or cartridges:http(s)://library/BARCODES with its token in LITHODEX_LIBRARY_TOKEN
  --envelope FILE | --key FILE     key envelope (its passphrase is asked for, or taken from LITHODEX_PASSPHRASE) or key file
  --list                           list the points
  --point ID [--path P] --to DIR   bring back a point, or an item of it, into a folder; what exists there is left as it is
`;

type Say = (line: string) => void;

async function openStore(values: { store: string; envelope?: string; key?: string }): Promise<Store> {
  const target = targetAt(placeOf(values.store));
  if (values.key) return Store.open(target, readFileSync(values.key));
  const envelope = parseEnvelope(readFileSync(values.envelope!, 'utf8'));
  const keys = openEnvelope(envelope, process.env['LITHODEX_PASSPHRASE'] ?? (await ask('Passphrase of the envelope: ')));
  return Store.withKeys(target, await openHeaderWithKeys(target, keys), keys);
}

const library = /^cartridges:(https?:\/\/.+)\/([A-Z0-9]+)$/;

/** The place a person means: a bucket for an address, a set of cartridges for one of a library, else a folder. */
function placeOf(store: string): TargetPlace {
  const [, endpoint, barcodes] = library.exec(store) ?? [];
  if (endpoint && barcodes) {
    const folder = mkdtempSync(path.join(tmpdir(), 'lithodex-cartridges-'));
    process.once('exit', () => rmSync(folder, { recursive: true, force: true }));
    return { kind: 'cartridges', endpoint, barcodes, folder, token: process.env['LITHODEX_LIBRARY_TOKEN'] ?? '' };
  }
  if (!/^https?:\/\//.test(store)) return { kind: 'folder', folder: store };
  const { origin, pathname } = new URL(store);
  const [bucket = '', ...prefix] = pathname.slice(1).replace(/\/$/, '').split('/');
  const { LITHODEX_ACCESS_KEY: accessKey = '', LITHODEX_SECRET_KEY: secretKey = '', LITHODEX_REGION: region = 'default' } = process.env;
  return {
    kind: 'bucket',
    endpoint: origin,
    region,
    bucket,
    prefix: prefix.map((p) => `${p}/`).join(''),
    accessKey,
    secretKey,
    locks: true,
  };
}

async function ask(question: string): Promise<string> {
  const lines = createInterface({ input: process.stdin, output: process.stderr });
  try {
    return await lines.question(question);
  } finally {
    lines.close();
  }
}

/** All points of a store, oldest first. */
async function points(store: Store): Promise<Root[]> {
  const roots: Root[] = [];
  for (const point of await store.listPoints()) {
    const root = await store.listedRoot(point);
    if (root) roots.push(root);
  }
  return roots.sort((a, b) => a.moment - b.moment);
}

async function list(store: Store, say: Say): Promise<void> {
  const roots = await points(store);
  for (const root of roots) {
    const when = new Date(root.moment).toISOString().slice(0, 16).replace('T', ' ');
    const { items, bytes } = root.totals;
    say(`${root.taskId}  ${when} UTC  ${root.workload.name}  ${root.kind}  ${countOf(items, 'item')}, ${formatBytes(bytes)}`);
  }
  say(countOf(roots.length, 'point'));
}

async function bringBack(store: Store, point: string, item: string, to: string, say: Say): Promise<boolean> {
  const root = (await points(store)).find((r) => r.taskId === point);
  if (!root) throw new EngineError('PATH_MISSING', `no point ${point}; --list shows them`);
  const stopped = () => false;
  const pool = new PlacePool(store.keys, store.target.place);
  const where = unescapePath(item);
  const { tree, entry, stored } = await findItem({ kept: store, store, root, top: topEntry(root) }, where);
  const placer = new Placer({ tree, threads: stored ? threadsOf(store, pool) : undefined, onBytes: () => undefined, stopped });
  let [done, failed, bytes] = [0, 0, 0];
  const restorer = new Restorer({
    base: bytesOfText(to),
    limits: HostLimits.none,
    cameFrom: undefined,
    rule: 'leave',
    stamp: '',
    taskId: 'extract',
    trial: false,
    tree,
    placer,
    onItem: (i) => {
      if (i.action === 'failed') failed++;
      else done++;
      bytes += i.action === 'write' ? i.bytes : 0;
      if (i.action === 'failed' || i.action === 'leave' || i.remark) say(`${i.action}: ${escapePath(i.path)} ${i.remark}`.trim());
    },
    drain: () => undefined,
    stopped,
  });
  try {
    await restorer.item(entry, where);
  } finally {
    restorer.close();
    placer.close();
    await pool.close();
  }
  say(
    `${countOf(done, 'item')}, ${formatBytes(bytes)} brought back; ${failed ? `${countOf(failed, 'item')} failed` : 'every sum checked'}`,
  );
  return failed === 0;
}

/** The command. Returns the exit code. */
export async function extract(args: string[], folder: string, say: Say): Promise<number> {
  const { values } = parseArgs({
    args,
    options: {
      store: { type: 'string' },
      envelope: { type: 'string' },
      key: { type: 'string' },
      list: { type: 'boolean' },
      point: { type: 'string' },
      path: { type: 'string' },
      to: { type: 'string' },
    },
  });
  const at = (file: string | undefined) => (file === undefined ? undefined : path.resolve(folder, file));
  const storeAt = values.store && /^(cartridges:)?https?:/.test(values.store) ? values.store : at(values.store);
  const [envelope, key, to] = [at(values.envelope), at(values.key), at(values.to)];
  if (!storeAt || !(envelope ?? key) || (!values.list && !(values.point && to))) {
    say(usage);
    return 2;
  }
  const store = await openStore({ store: storeAt, ...(envelope && { envelope }), ...(key && { key }) });
  const unnamed = (await store.index.adopt()).packs;
  if (unnamed) say(`${countOf(unnamed, 'pack')} that the index does not name ${unnamed === 1 ? 'was' : 'were'} read too`);
  if (values.list) {
    await list(store, say);
    return 0;
  }
  return (await bringBack(store, values.point!, values.path ?? '', to!, say)) ? 0 : 1;
}
