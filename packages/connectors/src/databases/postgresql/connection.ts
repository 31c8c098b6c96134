import net from 'node:net';
import tls from 'node:tls';
import type { Writable } from 'node:stream';
import type { DatabaseServer } from '@lithodex/kinds';
import { addressOf, AddressRefused } from '@lithodex/net';
import type { Client } from 'pg';
import { SourceError } from '../../source-error';
import { connectionOptions } from './programs';

const connectMs = 10_000;
/** Where one signs in to ask for what belongs to the whole server. */
export const commonDatabase = 'postgres';

/** What the server says of what went wrong. */
export interface ServerError extends Error {
  readonly code?: string;
  readonly detail?: string;
}

/** What the codes of errors mean here; classes are those of the SQL standard. */
function meaningOf(error: ServerError): SourceError {
  const { code = '', message } = error;
  if (code.startsWith('28')) return new SourceError('DATABASE_REFUSED');
  if (code === '42501') return new SourceError('DATABASE_RIGHT_MISSING', message);
  if (code === '3D000') return new SourceError('DATABASE_GONE', message);
  if (/^(08|57P0|53300)/.test(code) || /^[A-Z]{4,}/.test(code)) return new SourceError('DATABASE_AWAY', message.slice(0, 200));
  // who answers there may be no database server: what a stranger says is not passed on
  if (!/^[0-9A-Z]{5}$/.test(code))
    return new SourceError('DATABASE_AWAY', 'what answers there is no server of this family, or it went away');
  return new SourceError('DATABASE_FAILED', [message, error.detail].filter(Boolean).join('; ').slice(0, 500));
}

/** A failure of a statement, with the code of the server. */
export class StatementFailed extends SourceError {
  constructor(
    readonly sqlState: string,
    of: SourceError,
  ) {
    super(of.code, of.details);
  }
}

/** A connection to one database of a PostgreSQL server. */
export class PgConnection {
  private constructor(
    private readonly client: Client,
    /** Address that was looked at and connected to. */
    readonly address: string,
  ) {}

  /** Signs in. Throws SourceError, and AddressRefused as SourceError. */
  static async open(server: DatabaseServer, database: string = commonDatabase): Promise<PgConnection> {
    const { host, port, account, password, encrypted, authority } = server;
    const { Client: PgClient } = (await import('pg')).default;
    try {
      // a folder is where a server of the mover's own listens: no address that anybody could give
      const address = host.startsWith('/') ? host : await addressOf(host);
      const client = new PgClient({
        host: address,
        port,
        user: account,
        password,
        database,
        options: connectionOptions,
        application_name: 'lithodex',
        connectionTimeoutMillis: connectMs,
        ssl: encrypted && {
          ...(authority && { ca: authority }),
          rejectUnauthorized: true,
          ...(net.isIP(host) === 0 && { servername: host }),
          // the certificate names the host that was asked for, not the address that was connected to
          checkServerIdentity: (_: string, certificate: tls.PeerCertificate) => tls.checkServerIdentity(host, certificate),
        },
      });
      client.on('error', () => undefined);
      client.on('notice', () => undefined);
      await client.connect();
      return new PgConnection(client, address);
    } catch (error) {
      if (error instanceof AddressRefused) throw new SourceError('DATABASE_AWAY', error.message.replace(/\.$/, ''));
      throw meaningOf(error as ServerError);
    }
  }

  /** The process of the server that works for it. */
  get process(): number | null {
    return (this.client as Client & { readonly processID: number | null }).processID;
  }

  /** Rows of a question. Throws SourceError. */
  async rows<T>(sql: string, values: readonly unknown[] = []): Promise<T[]> {
    try {
      return (await this.client.query(sql, [...values])).rows as T[];
    } catch (error) {
      throw this.failed(error as ServerError);
    }
  }

  /** The only row of a question. */
  async row<T>(sql: string, values: readonly unknown[] = []): Promise<T | undefined> {
    return (await this.rows<T>(sql, values))[0];
  }

  /** Runs statements. Throws StatementFailed. */
  async run(sql: string): Promise<void> {
    try {
      await this.client.query(sql);
    } catch (error) {
      throw this.failed(error as ServerError);
    }
  }

  /** Takes rows in the form that COPY writes. Gives how many the server took. Throws StatementFailed. */
  async copyIn(sql: string, write: (to: (data: Buffer) => Promise<void>) => Promise<void>): Promise<number> {
    const { from } = await import('pg-copy-streams');
    const stream = this.client.query(from(sql));
    const ended = ending(stream);
    ended.catch(() => undefined);
    try {
      await write((data) => (stream.write(data) ? Promise.resolve() : Promise.race([drained(stream), ended])));
      stream.end();
      await ended;
      return stream.rowCount;
    } catch (error) {
      stream.destroy();
      throw error instanceof SourceError ? error : this.failed(error as ServerError);
    }
  }

  private failed(error: ServerError): Error {
    if (!('code' in error) && !(error instanceof Error)) return error;
    return new StatementFailed(error.code ?? '', meaningOf(error));
  }

  async close(): Promise<void> {
    await this.client.end().catch(() => undefined);
  }
}

const ending = (stream: Writable) =>
  new Promise<void>((resolve, reject) => {
    stream.once('finish', resolve).once('error', reject);
  });

const drained = (stream: Writable) =>
  new Promise<void>((resolve) => {
    stream.once('drain', resolve);
  });

/** Connects, works and closes. Throws SourceError. */
export async function withPg<T>(server: DatabaseServer, database: string, work: (c: PgConnection) => Promise<T>): Promise<T> {
  const connection = await PgConnection.open(server, database);
  try {
    return await work(connection);
  } finally {
    await connection.close();
  }
}
