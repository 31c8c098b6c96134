import { spawnSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { median } from '@lithodex/core';
import { closePools } from '@lithodex/connectors';
import { DiskFolder, Store } from '@lithodex/engine';
import type { DatabaseFrom } from '@lithodex/kinds';
import { takePoint } from '@lithodex/mover';
import { runSql, startMariadb } from '../scripts/launcher/mariadb.mjs';
import { quietly } from '../tests/support/store-kit';
import type { Kept, Result } from './result';

const megabyte = 1_000_000;
const rowBytes = 190;
const tables = 4;

/** Rows as a booking office has them: half of each compresses well. */
function fillSql(bytes: number): string {
  const rows = Math.floor(bytes / tables / rowBytes);
  const step = 200_000;
  const lines = ['CREATE DATABASE berths; USE berths;'];
  for (let t = 0; t < tables; t++) {
    lines.push(`CREATE TABLE booking_${t} (id INT PRIMARY KEY, ship CHAR(40), at DATETIME, note VARCHAR(200));`);
    for (let from = 1; from <= rows; from += step)
      lines.push(
        `INSERT INTO booking_${t} SELECT seq, MD5(seq + ${t}), '2026-01-01' + INTERVAL seq SECOND, CONCAT('berth ', seq % 40, ' was taken by the pilot of the day, tide 1.42 m, ', SHA2(seq, 256)) FROM seq_${from}_to_${Math.min(rows, from + step - 1)};`,
      );
  }
  return lines.join('\n');
}

/** A full of a database server beside the server's own program through compression and encryption; a second full after 1 % of the rows, side by side, changed beside that program alone. */
export async function databaseBench(
  folder: string,
  bytes: number,
  runs: number,
  report: (r: Result) => void,
  keeps: (k: Kept) => void,
): Promise<void> {
  fs.chmodSync(folder, 0o755);
  fs.mkdirSync(`${folder}/server`);
  const db = await startMariadb(`${folder}/server`, undefined, 0, 5);
  try {
    runSql(db.socket, `SET GLOBAL innodb_flush_log_at_trx_commit = 2; SET SESSION sql_log_bin = 0; ${fillSql(bytes)}`);
    const password = randomBytes(12).toString('hex');
    runSql(db.socket, `CREATE USER 'keeper'@'127.0.0.1' IDENTIFIED BY '${password}'; GRANT ALL ON *.* TO 'keeper'@'127.0.0.1';`);
    const from: DatabaseFrom = {
      kind: 'database',
      server: {
        kind: 'database',
        family: 'mariadb',
        host: '127.0.0.1',
        port: db.port,
        account: 'keeper',
        encrypted: false,
        authority: null,
        id: null,
        password,
      },
    };
    const peer = (rest: string) => {
      const begun = performance.now();
      const command = `mariadb-dump --no-defaults --socket=${db.socket} --single-transaction --master-data=2 berths ${rest}`;
      const { status } = spawnSync('bash', ['-o', 'pipefail', '-c', command]);
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
      const place = `${folder}/store-${run}`;
      fs.mkdirSync(place);
      const store = await Store.create(new DiskFolder(place), randomBytes(32), new Date());
      peers.push(peer(`| zstd -1 -T2 | openssl enc -aes-256-ctr -pbkdf2 -pass pass:x > ${folder}/peer`));
      const first = await take(store, null);
      firsts.push(first.seconds);
      const hundredth = Math.floor(bytes / rowBytes / 100);
      runSql(
        db.socket,
        `UPDATE berths.booking_0 SET note = CONCAT('changed ', ${run}, note) WHERE id BETWEEN 1000 AND ${1000 + hundredth};`,
      );
      alone.push(peer('> /dev/null'));
      const second = await take(store, first.taskId);
      seconds.push(second.seconds);
      share = Math.max(share, second.root.totals.stored / first.root.totals.stored);
      await closePools();
      fs.rmSync(place, { recursive: true });
    }
    const tell = (bench: string, ours: readonly number[], theirs: readonly number[], peerName: string) => {
      const [ours_s, peer_s] = [median(ours), median(theirs)];
      report({
        bench,
        peer: peerName,
        ours_s,
        peer_s,
        ratio: peer_s / ours_s,
        runs,
        peak_mb: Math.round(process.resourceUsage().maxRSS / 1024),
      });
    };
    const size = `${Math.round(bytes / megabyte)} MB`;
    tell(`database-full, ${size}`, firsts, peers, 'mariadb-dump | zstd -1 -T2 | openssl');
    tell(`database-full again, 1 % changed`, seconds, alone, 'mariadb-dump alone');
    keeps({ bench: 'database-full again: stored', found: share * 100, below: 3, unit: '% of the first' });
  } finally {
    await db.stop();
  }
}
