import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import type { DatabaseFrom } from '@lithodex/kinds';
import { runSql, startMariadb } from '../scripts/launcher/mariadb.mjs';
import { postgresqlProgram, startPostgresql } from '../scripts/launcher/postgresql.mjs';

const rowBytes = 190;
const tables = 4;
const step = 200_000;

/** A server full of rows, for a bench. */
export interface BenchDatabase {
  readonly family: DatabaseFrom['server']['family'];
  readonly from: DatabaseFrom;
  /** What the family's own program writes, as a command of a shell, and what it is called. */
  readonly dump: string;
  readonly dumpName: string;
  /** Changes a hundredth of the rows, side by side. */
  readonly change: (turn: number) => void;
  readonly stop: () => Promise<void>;
}

const perTable = (bytes: number) => Math.floor(bytes / tables / rowBytes);
const hundredth = (bytes: number) => Math.floor(bytes / rowBytes / 100);

function fromOf(family: DatabaseFrom['server']['family'], port: number, account: string, password: string): DatabaseFrom {
  const server = {
    kind: 'database' as const,
    family,
    host: '127.0.0.1',
    port,
    account,
    encrypted: false,
    authority: null,
    id: null,
    password,
  };
  return { kind: 'database', server };
}

/** Rows as a booking office has them: half of each compresses well. */
function mariadbRows(bytes: number): string {
  const rows = perTable(bytes);
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

export async function mariadbBench(
  folder: string,
  bytes: number,
): Promise<BenchDatabase & { readonly logFolder: string; readonly work: (commits: number) => void }> {
  fs.mkdirSync(folder);
  const db = await startMariadb(folder, undefined, 0, 5);
  const password = randomBytes(12).toString('hex');
  runSql(db.socket, `SET GLOBAL innodb_flush_log_at_trx_commit = 2; SET SESSION sql_log_bin = 0; ${mariadbRows(bytes)}`);
  runSql(db.socket, `CREATE USER 'keeper'@'127.0.0.1' IDENTIFIED BY '${password}'; GRANT ALL ON *.* TO 'keeper'@'127.0.0.1';`);
  runSql(
    db.socket,
    `USE berths; CREATE TABLE entry (id INT PRIMARY KEY AUTO_INCREMENT, ship INT, at DATETIME(6), note CHAR(100), KEY (ship));
    DELIMITER //
    CREATE PROCEDURE work(IN n INT) BEGIN
      DECLARE i INT DEFAULT 0;
      WHILE i < n DO INSERT INTO entry (ship, at, note) VALUES (i % 997, SYSDATE(6), MD5(i)); SET i = i + 1; END WHILE;
    END//
    DELIMITER ;`,
  );
  return {
    logFolder: `${folder}/data`,
    work: (commits) => {
      runSql(db.socket, `CALL berths.work(${commits});`);
    },
    family: 'mariadb',
    from: fromOf('mariadb', db.port, 'keeper', password),
    dump: `mariadb-dump --no-defaults --socket=${db.socket} --single-transaction --master-data=2 berths`,
    dumpName: 'mariadb-dump',
    change(turn) {
      const note = `CONCAT('changed ', ${turn}, note)`;
      runSql(db.socket, `UPDATE berths.booking_0 SET note = ${note} WHERE id BETWEEN 1000 AND ${1000 + hundredth(bytes)};`);
    },
    stop: () => db.stop(),
  };
}

export async function postgresqlBench(folder: string, bytes: number): Promise<BenchDatabase> {
  fs.mkdirSync(folder);
  const db = await startPostgresql(folder, 0, ['fsync=off', 'max_wal_size=4GB']);
  const password = randomBytes(12).toString('hex');
  db.run(`CREATE ROLE keeper SUPERUSER LOGIN PASSWORD '${password}'; CREATE DATABASE berths;`);
  for (let t = 0; t < tables; t++)
    db.run(
      `CREATE TABLE booking_${t} (id int PRIMARY KEY, ship char(40), at timestamp, note varchar(200));
       INSERT INTO booking_${t} SELECT i, md5((i + ${t})::text), timestamp '2026-01-01' + i * interval '1 second', 'berth ' || i % 40 || ' was taken by the pilot of the day, tide 1.42 m, ' || encode(sha256(i::text::bytea), 'hex') FROM generate_series(1, ${perTable(bytes)}) i;
       ANALYZE booking_${t};`,
      'berths',
    );
  return {
    family: 'postgresql',
    from: fromOf('postgresql', db.port, 'keeper', password),
    dump: `${postgresqlProgram('pg_dump')} -h ${db.socket} -p ${db.port} -U postgres berths`,
    dumpName: 'pg_dump',
    change(turn) {
      db.run(
        `UPDATE booking_0 SET note = left('changed ${turn}' || note, 200) WHERE id BETWEEN 1000 AND ${1000 + hundredth(bytes)};`,
        'berths',
      );
    },
    stop: () => db.stop(),
  };
}
