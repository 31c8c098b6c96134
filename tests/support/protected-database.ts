import { execFile, execFileSync } from 'node:child_process';
import fs from 'node:fs';
import { promisify } from 'node:util';
import type { BodyInput } from '@lithodex/contract';
import { runSql, startMariadb } from '../../scripts/launcher/mariadb.mjs';

const password = 'gulls over the mole';
/** Everything that reading and restoring takes. */
const allRights = 'ALL PRIVILEGES';

/** A database server that is protected, with an account for it and one that may do too little. */
export class ProtectedDatabase {
  private constructor(
    private readonly folder: string,
    private server: Awaited<ReturnType<typeof startMariadb>>,
  ) {}

  static async start(folder: string, logs = true, more: readonly string[] = []): Promise<ProtectedDatabase> {
    fs.mkdirSync(folder, { recursive: true });
    fs.chmodSync(folder, 0o755);
    const made = new ProtectedDatabase(folder, await startMariadb(folder, undefined, 0, logs ? 7 : undefined, more));
    made.run(`
      CREATE USER 'keeper'@'127.0.0.1' IDENTIFIED BY '${password}'; GRANT ${allRights} ON *.* TO 'keeper'@'127.0.0.1';
      CREATE USER 'visitor'@'127.0.0.1' IDENTIFIED BY '${password}'; GRANT SELECT ON *.* TO 'visitor'@'127.0.0.1';`);
    return made;
  }

  get port(): number {
    return this.server.port;
  }

  get pid(): number {
    return this.server.pid;
  }

  run(sql: string): string {
    return runSql(this.server.socket, sql);
  }

  /** The same while others work. */
  async runBeside(sql: string): Promise<void> {
    const args = ['--no-defaults', `--socket=${this.server.socket}`, '-e', sql];
    await promisify(execFile)('mariadb', args);
  }

  body(name: string, account = 'keeper'): BodyInput<'addSystem'> {
    const address = { kind: 'database' as const, family: 'mariadb' as const, host: '127.0.0.1', port: this.port, account };
    return { name, location: 'Harbour office', address, secret: password };
  }

  /** Everything a database holds, as the server's own program writes it. */
  dump(...databases: string[]): string {
    const args = [
      '--no-defaults',
      `--socket=${this.server.socket}`,
      '--routines',
      '--events',
      '--triggers',
      '--hex-blob',
      '--skip-dump-date',
    ];
    const text = execFileSync('mariadb-dump', [...args, '--databases', ...databases], { encoding: 'latin1', maxBuffer: 1 << 30 });
    return text.replace(/^-- (Dump completed|Host:).*$/gm, '');
  }

  async restart(): Promise<void> {
    await this.server.stop();
    this.server = await startMariadb(this.folder, undefined, this.port, 7);
  }

  /** Its files as they are now, kept in another folder. */
  async copyTo(folder: string): Promise<void> {
    await this.server.stop();
    execFileSync('cp', ['-a', `${this.folder}/data`, folder]);
    this.server = await startMariadb(this.folder, undefined, this.port, 7);
  }

  /** Goes back to the files of before. */
  async setBackTo(folder: string): Promise<void> {
    await this.server.stop();
    fs.rmSync(`${this.folder}/data`, { recursive: true });
    execFileSync('cp', ['-a', folder, `${this.folder}/data`]);
    this.server = await startMariadb(this.folder, undefined, this.port, 7);
  }

  /** Another server that follows this one until it is told to take over. */
  async replica(folder: string): Promise<ProtectedDatabase> {
    fs.mkdirSync(folder, { recursive: true });
    fs.chmodSync(folder, 0o755);
    await this.copyTo(`${folder}/data`);
    const other = new ProtectedDatabase(folder, await startMariadb(folder, undefined, 0, 8, ['--log-slave-updates']));
    const [file, position] = this.run('SHOW MASTER STATUS').split('\t');
    other.run(`CHANGE MASTER TO MASTER_HOST='127.0.0.1', MASTER_PORT=${this.port}, MASTER_USER='keeper', MASTER_PASSWORD='${password}',
      MASTER_LOG_FILE='${file}', MASTER_LOG_POS=${position}; START SLAVE`);
    return other;
  }

  stop(): Promise<void> {
    return this.server.stop();
  }
}

/** Databases with everything that is awkward to write down. */
export const awkward = `
CREATE DATABASE berths CHARACTER SET utf8mb4; CREATE DATABASE \`ta/r%iffs.\` CHARACTER SET latin1;
USE berths;
CREATE TABLE ship (id INT PRIMARY KEY AUTO_INCREMENT, name VARCHAR(80) NOT NULL COMMENT 'a; -- (b\nINSERT INTO \`ship\` VALUES', length DECIMAL(6,2), seen TIMESTAMP NULL, note TEXT, image BLOB,
  CHECK (length > 0), KEY (name)) COMMENT='ships; that; call';
INSERT INTO ship (name, length, seen, note, image) VALUES
  ('Gr\u00e5sk\u00e6r', 12.5, '2026-03-29 01:30:00', 'line\\nbreak', x'00ff27225c0a'), ('It''s "quoted" \\\\', 99.99, NULL, NULL, NULL), ('(1,2),(3,4);', 1, '2026-10-25 00:30:00', '\\nINSERT INTO \`ship\` VALUES\\n(1', ''),
  ('\u{1F6A2}', 4, NULL, '', x'');
CREATE TABLE booking (id INT PRIMARY KEY, ship INT NOT NULL, berth SET('a','b''s') NOT NULL DEFAULT 'a', hours DOUBLE AS (ship * 1.5) STORED, when_at DATETIME(6), doc JSON, pos POINT, bits BIT(5),
  CONSTRAINT of_ship FOREIGN KEY (ship) REFERENCES ship (id) ON DELETE CASCADE, FULLTEXT KEY (doc));
INSERT INTO booking (id, ship, berth, when_at, doc, pos, bits) VALUES (1, 1, 'a,b''s', '2026-11-22 14:03:26.123456', '{"a": [1, "\\\\n"]}', POINT(1, 2), b'10101'), (2, 2, 'a', NULL, NULL, NULL, NULL);
CREATE TABLE empty_one (a INT, b VARCHAR(10) DEFAULT 'x;y') ENGINE=InnoDB PARTITION BY HASH (a) PARTITIONS 3;
CREATE TABLE \`odd \`\`name\`\`\` (\`col \`\`x\` INT); INSERT INTO \`odd \`\`name\`\`\` VALUES (7);
CREATE TABLE kinds_of_values (id UUID PRIMARY KEY, far INET6, near INET4, y YEAR, t TIME(3), e ENUM('x','\u00f8'), b BINARY(4), vb VARBINARY(10), f FLOAT, d DOUBLE, z INT(5) UNSIGNED ZEROFILL, l LONGTEXT, day DATE, big BIGINT UNSIGNED, hidden INT INVISIBLE DEFAULT 3, up INT AS (z + 1) VIRTUAL);
INSERT INTO kinds_of_values (id, far, near, y, t, e, b, vb, f, d, z, l, day, big, hidden) VALUES
  ('123e4567-e89b-12d3-a456-426655440000', '2001:db8::ff00:42:8329', '192.0.2.7', 2026, '-12:34:56.789', '\u00f8', x'00ff2700', x'', 1.5e-7, -0.1, 42, REPEAT('it''s\\n', 70000), '0000-00-00', 18446744073709551615, 9),
  ('00000000-0000-0000-0000-000000000000', NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL);
CREATE TABLE old_storage (a INT PRIMARY KEY) ENGINE=Aria; INSERT INTO old_storage VALUES (1), (2);
CREATE SEQUENCE numbers START WITH 100; DO NEXTVAL(numbers);
CREATE VIEW z_base AS SELECT id, name FROM ship; CREATE VIEW a_on_top AS SELECT name FROM z_base WHERE name <> 'a;b';
DELIMITER //
CREATE TRIGGER before_booking BEFORE INSERT ON booking FOR EACH ROW BEGIN IF NEW.ship IS NULL THEN SET NEW.ship = 1; END IF; END//
CREATE PROCEDURE count_ships(OUT n INT) BEGIN SELECT COUNT(*) INTO n FROM ship; END//
CREATE FUNCTION double_of(a INT) RETURNS INT DETERMINISTIC RETURN a * 2//
CREATE EVENT nightly ON SCHEDULE EVERY 1 DAY STARTS '2030-01-01 00:00:00' DISABLE DO DELETE FROM empty_one//
DELIMITER ;
USE \`ta/r%iffs.\`;
CREATE TABLE tariff (id INT PRIMARY KEY, amount INT) CHARACTER SET latin1;
INSERT INTO tariff SELECT seq, seq * 7 MOD 1000 FROM seq_1_to_4812;
`;
