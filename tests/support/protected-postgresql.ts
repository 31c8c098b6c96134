import { execFile, execFileSync, spawnSync } from 'node:child_process';
import fs from 'node:fs';
import os from 'node:os';
import { setTimeout as pause } from 'node:timers/promises';
import { promisify } from 'node:util';
import type { BodyInput } from '@lithodex/contract';
import { postgresqlProgram, startPostgresql } from '../../scripts/launcher/postgresql.mjs';

const password = "gulls 'over': the \\ mole";

/** A PostgreSQL server that is protected, with an account for it and one that may do too little. */
export class ProtectedPostgresql {
  private constructor(
    private readonly folder: string,
    private server: Awaited<ReturnType<typeof startPostgresql>>,
  ) {}

  static async start(folder: string, more: readonly string[] = []): Promise<ProtectedPostgresql> {
    fs.mkdirSync(folder, { recursive: true });
    for (let at = folder; at !== '/'; at = fs.realpathSync(`${at}/..`)) if (at.startsWith('/tmp/')) fs.chmodSync(at, 0o755);
    const made = new ProtectedPostgresql(folder, await startPostgresql(folder, 0, ['fsync=off', ...more]));
    const opens = `'${password.replaceAll("'", "''")}'`;
    made.run(`CREATE ROLE keeper SUPERUSER LOGIN PASSWORD ${opens}; CREATE ROLE visitor LOGIN PASSWORD ${opens}; CREATE ROLE clerk;`);
    return made;
  }

  /** Opens it for the accounts that are there. */
  readonly password = password;

  get port(): number {
    return this.server.port;
  }

  get pid(): number {
    return this.server.pid;
  }

  run(sql: string, database?: string): string {
    return this.server.run(sql, database);
  }

  /** The same while others work. */
  async runBeside(sql: string, database: string): Promise<void> {
    const args = ['-X', '-q', '-h', this.server.socket, '-p', String(this.port), '-U', 'postgres', '-d', database, '-c', sql];
    await promisify(execFile)(postgresqlProgram('psql'), args);
  }

  /** Takes all of its log away but the newest part. */
  forgetLog(): void {
    const folder = `${this.folder}/data/pg_wal`;
    const names = fs.readdirSync(folder).filter((name) => /^[0-9A-F]{24}$/.test(name));
    const now = this.run('SELECT pg_walfile_name(pg_current_wal_lsn())').trim();
    for (const name of names.filter((n) => n < now)) fs.rmSync(`${folder}/${name}`);
  }

  /** Folders of scratch servers of this family that are there. */
  scratches(): string[] {
    const isOne = (name: string) => name.startsWith('lithodex-scratch-') && fs.existsSync(`${os.tmpdir()}/${name}/wal`);
    return fs.readdirSync(os.tmpdir()).filter(isOne);
  }

  body(name: string, account = 'keeper'): BodyInput<'addSystem'> {
    const address = { kind: 'database' as const, family: 'postgresql' as const, host: '127.0.0.1', port: this.port, account };
    return { name, location: 'Harbour office', address, secret: password };
  }

  /** Everything a database holds, as the server's own program writes it. */
  dump(database: string): string {
    const args = ['-h', this.server.socket, '-p', String(this.port), '-U', 'postgres', database];
    const text = execFileSync(postgresqlProgram('pg_dump'), args, { encoding: 'latin1', maxBuffer: 1 << 30 });
    return text.replace(/^\\(un)?restrict .*\n/gm, '');
  }

  /** Kills it as the power does: the processes that serve others end with it. */
  kill(): void {
    process.kill(this.pid, 'SIGKILL');
  }

  /** Scratch servers of this family whose movers are gone, and their folders. */
  orphans(): string[] {
    const running = spawnSync('pgrep', ['-af', 'lithodex-scratch-'], { encoding: 'utf8' }).stdout.split('\n');
    return [...this.scratches(), ...running].filter((text) => {
      const owner = /lithodex-scratch-(\d+)-/.exec(text)?.[1];
      return owner !== undefined && !fs.existsSync(`/proc/${owner}`);
    });
  }

  /** Settings of a server that takes encrypted connections. */
  static encrypted(folder: string, certificate: string, key: string): string[] {
    fs.mkdirSync(folder, { recursive: true });
    // the server wants the key to be its own and nobody else's
    const own = `${folder}/server.key`;
    fs.copyFileSync(key, own);
    execFileSync('chown', ['postgres', own]);
    fs.chmodSync(own, 0o600);
    return ['ssl=on', `ssl_cert_file=${certificate}`, `ssl_key_file=${own}`];
  }

  /** Starts it again where it was, after it went away. */
  async restart(): Promise<void> {
    const { port } = this;
    await this.server.stop();
    // processes that outlived the first one hold its memory for a moment
    await pause(1000);
    this.server = await startPostgresql(this.folder, port, ['fsync=off']);
  }

  /** Its files as they are now, kept in another folder. */
  async copyTo(folder: string): Promise<void> {
    const { port } = this;
    await this.server.stop();
    execFileSync('cp', ['-a', `${this.folder}/data`, folder]);
    this.server = await startPostgresql(this.folder, port, ['fsync=off']);
  }

  /** Goes back to the files of before. */
  async setBackTo(folder: string): Promise<void> {
    const { port } = this;
    await this.server.stop();
    fs.rmSync(`${this.folder}/data`, { recursive: true });
    execFileSync('cp', ['-a', folder, `${this.folder}/data`]);
    this.server = await startPostgresql(this.folder, port, ['fsync=off']);
  }

  /** Another server that follows this one until it is told to take over. */
  async replica(folder: string): Promise<ProtectedPostgresql> {
    fs.mkdirSync(folder, { recursive: true });
    fs.chmodSync(folder, 0o755);
    const args = [
      '-h',
      this.server.socket,
      '-p',
      String(this.port),
      '-U',
      'postgres',
      '-D',
      `${folder}/data`,
      '-R',
      '-c',
      'fast',
      '--no-sync',
    ];
    execFileSync(postgresqlProgram('pg_basebackup'), args);
    execFileSync('chown', ['-R', 'postgres:', folder]);
    return new ProtectedPostgresql(folder, await startPostgresql(folder, 0, ['fsync=off']));
  }

  stop(): Promise<void> {
    return this.server.stop();
  }
}

/** A database with everything that is awkward to write down. */
export const awkwardTide = `
CREATE SCHEMA "My Sch.ema"; CREATE EXTENSION pgcrypto;
CREATE TYPE mood AS ENUM ('a', 'b;', 'c''d'); CREATE DOMAIN positive AS int CHECK (VALUE > 0);
CREATE FUNCTION doubled(a int) RETURNS int LANGUAGE sql IMMUTABLE BEGIN ATOMIC SELECT a * 2; END;
CREATE TABLE gauge (id serial PRIMARY KEY, name text NOT NULL DEFAULT 'a;''b' UNIQUE, m mood, n positive, len numeric(6,2), seen timestamptz, doc jsonb, pic bytea, parts int[],
  twice numeric GENERATED ALWAYS AS (len * 2) STORED, size interval, CHECK (len > 0));
COMMENT ON TABLE gauge IS E'x\\n--\\n-- Name: y; Type: TABLE; Schema: public; Owner: z\\n--\\n'; COMMENT ON COLUMN gauge.name IS 'named';
INSERT INTO gauge (name, m, n, len, seen, doc, pic, parts, size) VALUES
  (E'tab\\tline\\nback\\\\slash', 'b;', 1, 3.5, '2026-03-29 01:30:00+00', '{"a": [1, "\\\\n"]}', '\\x00ff5c2e0a', '{1,NULL}', '1 year 2 days'),
  ('\\.', NULL, NULL, 4, '2026-10-25 00:30:00+00', NULL, '', '{}', NULL), ('\u00fc \u{1F6A2}', 'c''d', 7, 1, NULL, NULL, NULL, NULL, NULL), (E'\\r', NULL, NULL, NULL, 'infinity', NULL, NULL, NULL, NULL);
CREATE TABLE "My Sch.ema"."Odd "" Name" ("Col ""x" int GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, gauge int REFERENCES gauge (id) ON DELETE CASCADE);
INSERT INTO "My Sch.ema"."Odd "" Name" (gauge) VALUES (1), (2);
CREATE TABLE nothing (); CREATE TABLE part (a int, b text) PARTITION BY RANGE (a);
CREATE TABLE part_1 PARTITION OF part FOR VALUES FROM (0) TO (10); CREATE TABLE part_2 PARTITION OF part FOR VALUES FROM (10) TO (20);
INSERT INTO part SELECT i, 'row ' || i FROM generate_series(0, 19) i;
CREATE TABLE level (at int PRIMARY KEY, cm int NOT NULL, twice int DEFAULT doubled(4)); INSERT INTO level SELECT i, (i * 7919) % 400 FROM generate_series(1, 4812) i;
CREATE INDEX level_cm ON level (cm) WHERE cm > 100; CREATE UNIQUE INDEX ON gauge (lower(name)); ALTER TABLE level CLUSTER ON level_pkey;
CREATE VIEW high AS SELECT at, cm FROM level WHERE cm > 300; CREATE VIEW a_top AS SELECT count(*) AS n FROM high;
CREATE MATERIALIZED VIEW means AS SELECT cm / 100 AS class, count(*) AS n FROM level GROUP BY 1; CREATE UNIQUE INDEX ON means (class); CREATE MATERIALIZED VIEW empty_one AS SELECT 1 WITH NO DATA;
CREATE FUNCTION noted() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
--
-- Name: hidden; Type: TABLE; Schema: public; Owner: keeper
--
RETURN NEW; END $$;
CREATE TRIGGER noted BEFORE INSERT OR UPDATE ON gauge FOR EACH ROW EXECUTE FUNCTION noted();
CREATE RULE kept AS ON DELETE TO nothing DO INSTEAD (SELECT 1; SELECT 2);
CREATE SEQUENCE numbers START 100; SELECT nextval('numbers'); GRANT SELECT ON level TO clerk; ALTER TABLE level OWNER TO clerk;
ALTER TABLE level ENABLE ROW LEVEL SECURITY; CREATE POLICY seen ON level TO clerk USING (cm > 5);
ALTER DATABASE "tide/s%." SET work_mem = '5MB'; COMMENT ON DATABASE "tide/s%." IS 'tides';
`;
