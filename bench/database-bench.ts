import { spawnSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { median } from '@lithodex/core';
import { closePools } from '@lithodex/connectors';
import { DiskFolder, Store } from '@lithodex/engine';
import { takePoint } from '@lithodex/mover';
import { quietly } from '../tests/support/store-kit';
import { mariadbBench, postgresqlBench, type BenchDatabase } from './database-servers';
import type { Kept, Result } from './result';

const megabyte = 1_000_000;

/** Fulls of a server of each family beside its own program through compression and encryption; a second full after 1 % of the rows, side by side, changed beside that program alone. */
export async function databaseBench(
  folder: string,
  bytes: number,
  runs: number,
  report: (r: Result) => void,
  keeps: (k: Kept) => void,
): Promise<void> {
  fs.chmodSync(folder, 0o755);
  for (const start of [mariadbBench, postgresqlBench]) {
    const db = await start(`${folder}/server-${start.name}`, bytes);
    try {
      await benchOf(db, folder, bytes, runs, report, keeps);
    } finally {
      await db.stop();
    }
  }
}

async function benchOf(
  { family, from, dump, dumpName, change }: BenchDatabase,
  folder: string,
  bytes: number,
  runs: number,
  report: (r: Result) => void,
  keeps: (k: Kept) => void,
): Promise<void> {
  const peer = (rest: string) => {
    const begun = performance.now();
    const { status } = spawnSync('bash', ['-o', 'pipefail', '-c', `${dump} ${rest}`]);
    if (status !== 0) throw new Error('the peer failed');
    return (performance.now() - begun) / 1000;
  };
  let number = 0;
  const take = async (store: Store, previous: string | null) => {
    const taskId = `00000000-0000-4000-8000-${String(++number).padStart(12, '0')}`;
    const begun = performance.now();
    const { root } = await takePoint(
      store,
      {
        taskId,
        seriesId: '00000000-0000-4000-8000-000000000000',
        workload: { id: '1', name: 'bench', source: 'bench', path: '' },
        from,
        kind: 'full',
        previous,
        moment: Date.now(),
        include: [],
        exclude: [],
      },
      quietly,
    );
    return { taskId, seconds: (performance.now() - begun) / 1000, root };
  };
  const firsts: number[] = [];
  const seconds: number[] = [];
  const peers: number[] = [];
  const alone: number[] = [];
  let share = 0;
  for (let run = 0; run < runs; run++) {
    const place = `${folder}/store-${family}-${run}`;
    fs.mkdirSync(place);
    const store = await Store.create(new DiskFolder(place), randomBytes(32), new Date());
    peers.push(peer(`| zstd -1 -T2 | openssl enc -aes-256-ctr -pbkdf2 -pass pass:x > ${folder}/peer`));
    const first = await take(store, null);
    firsts.push(first.seconds);
    change(run);
    alone.push(peer('> /dev/null'));
    const second = await take(store, first.taskId);
    seconds.push(second.seconds);
    share = Math.max(share, second.root.totals.stored / first.root.totals.stored);
    await closePools();
    fs.rmSync(place, { recursive: true });
  }
  const tell = (bench: string, ours: readonly number[], theirs: readonly number[], peerName: string) => {
    const [ours_s, peer_s] = [median(ours), median(theirs)];
    const peak_mb = Math.round(process.resourceUsage().maxRSS / 1024);
    report({ bench, peer: peerName, ours_s, peer_s, ratio: peer_s / ours_s, runs, peak_mb });
  };
  tell(`database-full, ${family}, ${Math.round(bytes / megabyte)} MB`, firsts, peers, `${dumpName} | zstd -1 -T2 | openssl`);
  tell(`database-full again, ${family}, 1 % changed`, seconds, alone, `${dumpName} alone`);
  keeps({ bench: `database-full again, ${family}: stored`, found: share * 100, below: 3, unit: '% of the first' });
}
