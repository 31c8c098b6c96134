import { setTimeout as pause } from 'node:timers/promises';
import type { BodyInput } from '@lithodex/contract';
import { Harness, policyFor } from '../tests/support/harness';
import { ProtectedDatabase } from '../tests/support/protected-database';
import { ProtectedPostgresql } from '../tests/support/protected-postgresql';
import { p95 } from './bench-server';
import type { Kept } from './result';

const perSecond = 2000;
const seconds = 45;
/** The first full, and the log of before, are left behind by then. */
const beforeMs = 5000;
const noteBytes = 190;

interface Writer {
  readonly name: string;
  readonly body: BodyInput<'addSystem'>;
  /** Commits rows for so many seconds. */
  readonly write: () => Promise<void>;
  readonly rows: () => number;
  readonly stop: () => Promise<void>;
}

async function mariadb(folder: string): Promise<Writer> {
  const db = await ProtectedDatabase.start(folder);
  db.run(`SET GLOBAL innodb_flush_log_at_trx_commit = 1; CREATE DATABASE tides; USE tides;
    CREATE TABLE entry (id INT PRIMARY KEY AUTO_INCREMENT, at DATETIME(6), note CHAR(${noteBytes}));
    DELIMITER //
    CREATE PROCEDURE work(IN n INT) BEGIN
      DECLARE i INT DEFAULT 0; DECLARE begun DOUBLE; SET begun = UNIX_TIMESTAMP(SYSDATE(6));
      WHILE i < n DO
        INSERT INTO entry (at, note) VALUES (SYSDATE(6), SHA2(i, 512));
        SET i = i + 1;
        IF i % 20 = 0 THEN DO SLEEP(GREATEST(0, begun + i / ${perSecond} - UNIX_TIMESTAMP(SYSDATE(6)))); END IF;
      END WHILE;
    END//
    DELIMITER ;`);
  return {
    name: 'mariadb, flush at each commit, binary log not synced',
    body: db.body('Berths'),
    write: () => db.runBeside(`CALL tides.work(${perSecond * seconds})`),
    rows: () => Number(db.run('SELECT COUNT(*) FROM tides.entry')),
    stop: () => db.stop(),
  };
}

async function postgresql(folder: string): Promise<Writer> {
  const db = await ProtectedPostgresql.start(folder, ['max_wal_size=4GB']);
  db.run('CREATE DATABASE tides');
  db.run(
    `CREATE TABLE entry (id serial PRIMARY KEY, at timestamptz, note char(${noteBytes}));
    CREATE PROCEDURE work(n int) LANGUAGE plpgsql AS $$ DECLARE begun timestamptz := clock_timestamp(); BEGIN FOR i IN 1..n LOOP
      INSERT INTO entry (at, note) VALUES (clock_timestamp(), encode(sha256(i::text::bytea), 'hex')); COMMIT;
      IF i % 20 = 0 THEN PERFORM pg_sleep(greatest(0, i::float / ${perSecond} - extract(epoch FROM clock_timestamp() - begun))); END IF;
    END LOOP; END $$;`,
    'tides',
  );
  return {
    name: 'postgresql, fsync off',
    body: db.body('Tide'),
    write: () => db.runBeside(`CALL work(${perSecond * seconds})`, 'tides'),
    rows: () => Number(db.run('SELECT count(*) FROM entry', 'tides')),
    stop: () => db.stop(),
  };
}

/** How long after it was committed a row can be brought back, with a log that is followed, while a writer commits all the time. */
export async function logLagBench(keeps: (k: Kept) => void): Promise<void> {
  for (const begin of [mariadb, postgresql]) {
    const h = await Harness.start({ leaseMs: 20_000 });
    const db = await begin(`${h.folder}/protected`);
    try {
      await lagOf(h, db, keeps);
    } finally {
      await db.stop();
      await h.stop();
    }
  }
}

async function lagOf(h: Harness, db: Writer, keeps: (k: Kept) => void): Promise<void> {
  const admin = await h.as('administrator');
  const { targetId } = await h.connect(admin);
  const {
    workloads: [workload = 0],
  } = await admin.call('addSystem', { body: db.body });
  const body = policyFor([workload], targetId);
  const rule = body.rules[0]!;
  const rules: typeof body.rules = [
    { ...rule, no: 1, kind: 'full' },
    { ...rule, no: 2, kind: 'log', schedule: { every: 'moment' } },
  ];
  const { id } = await admin.call('addPolicy', { body: { ...body, rules } });
  await admin.ended((await admin.call('runPolicy', { id, body: { rule: 1 } })).runId);
  const begun = Date.now();
  let writes = true;
  const writing = db.write().finally(() => {
    writes = false;
  });
  const seen: { at: number; to: number }[] = [];
  while (writes) {
    const { stretches } = await admin.call('databaseBand', { id: workload });
    seen.push({ at: Date.now(), to: stretches.at(-1)?.to ?? 0 });
    await pause(100);
  }
  await writing;
  const ended = Date.now();
  const rate = db.rows() / ((ended - begun) / 1000);
  const lags: number[] = [];
  // a second is whole once it is over: a commit can be brought back when the band reaches its second
  for (let at = begun + beforeMs; at < ended - beforeMs * 2; at += 10) {
    const covered = seen.find((s) => s.to >= Math.floor(at / 1000) * 1000);
    lags.push(((covered?.at ?? Infinity) - at) / 1000);
  }
  const what = `${db.name}, ${Math.round(rate)} commits a second of ${noteBytes} B`;
  keeps({ bench: `log-lag p95, ${what}`, found: p95(lags), below: 5, unit: 's' });
}
