import net from 'node:net';
import type { DatabaseServer } from '@lithodex/kinds';
import { addressOf, AddressRefused } from '@lithodex/net';
import type { Connection, RowDataPacket } from 'mysql2/promise';
import { SourceError } from '../../source-error';

const connectMs = 10_000;

/** What the numbers and names of errors mean here. */
function meaningOf(error: { code?: string; errno?: number; message?: string }): SourceError {
  const { code = '', message = '' } = error;
  if (['ER_ACCESS_DENIED_ERROR', 'ER_ACCOUNT_HAS_BEEN_LOCKED', 'ER_MUST_CHANGE_PASSWORD_LOGIN'].includes(code) || error.errno === 1862)
    return new SourceError('DATABASE_REFUSED');
  if (/^ER_(\w*ACCESS_DENIED\w*|SPECIFIC_ACCESS_DENIED_ERROR|OPTION_PREVENTS_STATEMENT)$/.test(code))
    return new SourceError('DATABASE_RIGHT_MISSING', message);
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
