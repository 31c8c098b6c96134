import { execFileSync, spawnSync } from 'node:child_process';
import { randomBytes, randomUUID } from 'node:crypto';
import fs from 'node:fs';
import { findItem, connectorOf, HostLimits, closePools, type RestoreContext } from '@lithodex/connectors';
import { DiskFolder, Store, topEntry } from '@lithodex/engine';
import type { DatabasePoint, DatabaseTo } from '@lithodex/kinds';
import { median } from '@lithodex/core';
import { takePoint, type PointRequest } from '@lithodex/mover';
import { quietly } from '../tests/support/store-kit';
import { runSql, startMariadb } from '../scripts/launcher/mariadb.mjs';
import { mariadbBench } from './database-servers';
import type { Result } from './result';

const commits = 60_000;
const fullBytes = 40_000_000;

/** The log of many commits replayed in a scratch server, beside the family's own programs that do so into a server that is as durable. */
export async function replayBench(folder: string, runs: number, report: (r: Result) => void): Promise<void> {
  fs.chmodSync(folder, 0o755);
  const db = await mariadbBench(`${folder}/replay`, fullBytes);
  const place = `${folder}/replay-store`;
  fs.mkdirSync(place);
  const store = await Store.create(new DiskFolder(place), randomBytes(32), new Date());
  try {
    const full = await take(store, db.from, 'full', null);
    db.work(commits);
    const { position } = full.content.facts as DatabasePoint;
    const log = await take(store, db.from, 'log', { file: position!.file, at: position!.at, moment: position!.since });
    const ours: number[] = [];
    const peers: number[] = [];
    for (let i = 0; i < runs; i++) {
      peers.push(await replayedByPeer(folder, db, position!));
      ours.push(await replayed(store, db.from, full, log));
    }
    const [ours_s, peer_s] = [median(ours), median(peers)];
    const peak_mb = Math.round(process.resourceUsage().maxRSS / 1024);
    report({
      bench: `replay, ${commits} commits`,
      peer: 'mariadb-binlog | mariadb',
      ours_s,
      peer_s,
      ratio: peer_s / ours_s,
      runs,
      peak_mb,
    });
  } finally {
    await closePools();
    await db.stop();
  }
}

async function take(store: Store, from: PointRequest['from'], kind: 'full' | 'log', logStart: PointRequest['logStart']) {
  const request = {
    taskId: randomUUID(),
    seriesId: randomUUID(),
    workload: { id: '1', name: 'bench', source: 'bench', path: '' },
    from,
    previous: null,
    moment: Date.now(),
    include: [],
    exclude: [],
  };
  return (await takePoint(store, { ...request, kind, logStart: logStart ?? null }, quietly)).root;
}

type Taken = Awaited<ReturnType<typeof take>>;

/** Seconds from the beginning of the replay to its end. */
async function replayed(store: Store, { server }: { readonly server: DatabaseTo['server'] }, full: Taken, log: Taken): Promise<number> {
  let begun = 0;
  let ended = 0;
  const ctx: RestoreContext = {
    taskId: randomUUID(),
    trial: false,
    edited: undefined,
    limits: new HostLimits({ read: ['/'], write: ['/'], backOnly: [], kept: [] }),
    phase: (name) => {
      if (name === 'replaying the log') begun = performance.now();
    },
    note: ({ code }) => {
      if (code === 'REPLAYED') ended = performance.now();
    },
    done: () => undefined,
    drain: () => undefined,
    moved: () => undefined,
    stopped: () => false,
  };
  const open = (root: Taken) => () => Promise.resolve({ kept: store, store, root, top: topEntry(root) });
  const until = { at: Date.now(), stretch: 1 };
  const destination = { databases: [{ from: 'berths', to: 'replayed' }], exists: 'replace' as const, suffix: '', until };
  const picks = [full, log].map((root, i) => {
    const path = i === 0 ? 'berths/tables/booking_0.sql' : '';
    return { open: open(root), find: async () => findItem(await open(root)(), path), path, to: '', base: '' };
  });
  await (await connectorOf('database')).restore(ctx, picks, { kind: 'database', server, destination });
  return (ended - begun) / 1000;
}

async function replayedByPeer(
  folder: string,
  db: Awaited<ReturnType<typeof mariadbBench>>,
  { file, at }: { readonly file: string; readonly at: number },
): Promise<number> {
  const own = fs.mkdtempSync(`${folder}/peer-`);
  fs.chmodSync(own, 0o755);
  const peer = await startMariadb(own, undefined, 0, undefined, [
    '--innodb-flush-log-at-trx-commit=0',
    '--innodb-doublewrite=0',
    '--innodb-buffer-pool-size=256M',
  ]);
  try {
    // as it was at the full: what was written since is replayed
    runSql(peer.socket, 'CREATE DATABASE berths');
    const dump = db.dump.replace(/ --master-data=2/, '');
    execFileSync('bash', ['-o', 'pipefail', '-c', `${dump} | mariadb --no-defaults --socket=${peer.socket} berths`]);
    runSql(peer.socket, 'TRUNCATE berths.entry');
    const files = fs
      .readdirSync(db.logFolder)
      .filter((name) => /\.\d+$/.test(name) && name >= file)
      .sort();
    const begun = performance.now();
    const command = `mariadb-binlog --no-defaults --start-position=${at} ${files.map((f) => `${db.logFolder}/${f}`).join(' ')} | mariadb --no-defaults --socket=${peer.socket} --binary-mode`;
    const { status, stderr } = spawnSync('bash', ['-o', 'pipefail', '-c', command], { encoding: 'utf8' });
    if (status !== 0) throw new Error(`the peer failed: ${stderr}`);
    return (performance.now() - begun) / 1000;
  } finally {
    await peer.stop();
    fs.rmSync(own, { recursive: true });
  }
}
