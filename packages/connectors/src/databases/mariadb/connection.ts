import net from 'node:net';
import type { DatabaseServer } from '@lithodex/kinds';
import { addressOf, AddressRefused } from '@lithodex/net';
import type { Connection, RowDataPacket } from 'mysql2/promise';
import { SourceError } from '../../source-error';
import type { RawColumn } from './row-text';

const connectMs = 10_000;

/** What the numbers and names of errors mean here. */
function meaningOf(error: { code?: string; errno?: number; message?: string }): SourceError {
  const { code = '', message = '' } = error;
  if (['ER_ACCESS_DENIED_ERROR', 'ER_ACCOUNT_HAS_BEEN_LOCKED', 'ER_MUST_CHANGE_PASSWORD_LOGIN'].includes(code) || error.errno === 1862)
    return new SourceError('DATABASE_REFUSED');
  if (/^ER_(\w*ACCESS_DENIED\w*|SPECIFIC_ACCESS_DENIED_ERROR|OPTION_PREVENTS_STATEMENT)$/.test(code))
    return new SourceError('DATABASE_RIGHT_MISSING', message);
  if (['ER_TABLE_DEF_CHANGED', 'ER_NO_SUCH_TABLE'].includes(code)) return new SourceError('DATABASE_CHANGED', message);
  if (code === 'ER_BAD_DB_ERROR') return new SourceError('DATABASE_GONE', message);
  if (/^(ECONN|EHOST|ENET|ETIMEDOUT|ENOTFOUND|EAI_|PROTOCOL_|HANDSHAKE|EPIPE|ER_CON_COUNT|ER_SERVER_SHUTDOWN)/.test(code))
    return new SourceError('DATABASE_AWAY', code);
  // who answers there may be no database server: what a stranger says is not passed on
  if (!code.startsWith('ER_')) return new SourceError('DATABASE_AWAY', 'what answers there is no server of this family');
  return new SourceError('DATABASE_FAILED', message.slice(0, 500));
}

/** Quotes a name. */
export const quoted = (name: string): string => `\`${name.replaceAll('`', '``')}\``;
/** Quotes a text. */
export const quotedText = (text: string): string => `'${text.replace(/[\\']/g, '\\$&').replaceAll('\0', '\\0').replaceAll('\n', '\\n')}'`;

/** What takes rows as the server sends them: values with their lengths before them. */
export interface RawRows {
  readonly begin: (columns: readonly RawColumn[]) => void;
  readonly row: (data: Buffer, from: number, to: number) => Promise<void> | undefined;
}

/** The number of the character set of bytes that are no text. */
const binarySet = 63;

/** A packet of the package that speaks the protocol: its own, and used again for the next one. */
interface RawPacket {
  readonly buffer: Buffer;
  readonly offset: number;
  readonly end: number;
  isEOF(): boolean;
}

/** A step of a question of that package: takes a packet and gives the step for the next. */
type RawStep = (packet: RawPacket, connection: unknown) => unknown;

/** What is used of that package beyond what it describes: a question whose rows are not taken apart. */
interface RawCore {
  query(
    options: { readonly sql: string },
    done: (error: Error | null) => void,
  ): { row: RawStep; on(event: 'fields', take: (fields: readonly { columnType: number; characterSet: number }[]) => void): void };
  pause(): void;
  resume(): void;
  destroy(): void;
}

/** A connection to a MariaDB server. */
export class MariadbConnection {
  private constructor(
    private readonly connection: Connection,
    /** Address that was looked at and connected to. */
    readonly address: string,
  ) {}

  /** Signs in. Throws SourceError, and AddressRefused as SourceError. */
  static async open({ host, port, account, password, encrypted, authority }: DatabaseServer): Promise<MariadbConnection> {
    const { createConnection } = await import('mysql2/promise');
    try {
      const address = await addressOf(host);
      const connection = await createConnection({
        host,
        // where the host is an address itself, the certificate is held against this
        stream: Object.assign(net.connect(port, address), { _host: host }),
        user: account,
        password,
        connectTimeout: connectMs,
        supportBigNumbers: true,
        dateStrings: true,
        charset: 'utf8mb4',
        // a server must not ask for files of the mover
        flags: ['-LOCAL_FILES'],
        ...(encrypted && { ssl: { ...(authority && { ca: authority }), rejectUnauthorized: true, verifyIdentity: true } }),
      });
      connection.on('error', () => undefined);
      return new MariadbConnection(connection, address);
    } catch (error) {
      if (error instanceof AddressRefused) throw new SourceError('DATABASE_AWAY', error.message.replace(/\.$/, ''));
      throw meaningOf(error as Error);
    }
  }

  /** Rows of a question. Throws SourceError. */
  async rows<T>(sql: string, values: readonly (string | number)[] = []): Promise<T[]> {
    try {
      const [rows] = await this.connection.query<RowDataPacket[]>(sql, [...values]);
      return rows as T[];
    } catch (error) {
      throw meaningOf(error as Error);
    }
  }

  /**
   * Rows of a question as bytes, in memory that is used again: `begin` is told the columns, `row` each row and may give a promise to wait for. Throws SourceError and what these throw.
   */
  async rawRows(sql: string, take: RawRows): Promise<void> {
    const core = (this.connection as unknown as { readonly connection: RawCore }).connection;
    await new Promise<void>((resolve, reject) => {
      let failed = false;
      const fail = (error: unknown) => {
        failed = true;
        // the server would go on sending
        core.destroy();
        reject(error instanceof Error ? error : new Error(String(error)));
      };
      const query = core.query({ sql }, (error) => {
        if (error) reject(meaningOf(error));
        else resolve();
      });
      const { row: usual } = query;
      query.on('fields', (fields) => {
        take.begin(fields.map((f) => ({ type: f.columnType, binary: f.characterSet === binarySet })));
      });
      query.row = function next(packet, connection) {
        if (packet.isEOF()) return usual.call(query, packet, connection);
        try {
          const busy = failed ? undefined : take.row(packet.buffer, packet.offset, packet.end);
          if (busy) {
            core.pause();
            busy.then(() => {
              core.resume();
            }, fail);
          }
        } catch (error) {
          fail(error);
        }
        return next;
      };
    });
  }

  /** The only row of a question. */
  async row<T>(sql: string, values: readonly (string | number)[] = []): Promise<T | undefined> {
    return (await this.rows<T>(sql, values))[0];
  }

  /** Runs a statement. Throws SourceError. */
  async run(sql: string): Promise<void> {
    try {
      await this.connection.query(sql);
    } catch (error) {
      throw meaningOf(error as Error);
    }
  }

  async close(): Promise<void> {
    await this.connection.end().catch(() => {
      this.connection.destroy();
    });
  }
}

/** Connects, works and closes. Throws SourceError. */
export async function withMariadb<T>(server: DatabaseServer, work: (c: MariadbConnection) => Promise<T>): Promise<T> {
  const connection = await MariadbConnection.open(server);
  try {
    return await work(connection);
  } finally {
    await connection.close();
  }
}
