import { existsSync, readdirSync } from 'node:fs';
import path from 'node:path';
import type { DatabaseServer } from '@lithodex/kinds';
import { ClientProgram, firstFile } from '../client-program';
import type { OutputPipe } from '../output-pipe';

/** What Debian's package of authorities writes; the programs trust none by themselves. */
const systemAuthorities = '/etc/ssl/certs/ca-certificates.crt';
const versions = '/usr/lib/postgresql';

/** A program of the newest version that is installed; by its name alone where none is in the usual place. */
export function programPath(name: string): string {
  const found = existsSync(versions) ? readdirSync(versions).sort((a, b) => Number(b) - Number(a)) : [];
  return found.map((version) => path.join(versions, version, 'bin', name)).find((file) => existsSync(file)) ?? name;
}

/** How values are written down, whatever is usual on the server; no limits of time, and an error instead of rows that a rule hides. */
const settings = {
  client_encoding: 'UTF8',
  datestyle: 'ISO',
  intervalstyle: 'postgres',
  extra_float_digits: '3',
  timezone: 'UTC',
  bytea_output: 'hex',
  statement_timeout: '0',
  idle_in_transaction_session_timeout: '0',
  row_security: 'off',
  synchronize_seqscans: 'off',
  standard_conforming_strings: 'on',
  // what a function needs may be made after it
  check_function_bodies: 'off',
  search_path: '',
} as const;

/** The same as options of a connection. */
export const connectionOptions: string = Object.entries(settings)
  .map(([name, value]) => `-c ${name}=${value}`)
  .join(' ');

/** As a file of passwords wants it: with colons and backslashes escaped. */
const escaped = (text: string) => text.replace(/[:\\]/g, '\\$&');
const quotedValue = (text: string) => `'${text.replace(/[\\']/g, '\\$&')}'`;

/** Starts a client program of the family on a database. `address`: where the server was found to be; `output`: where what it writes is read, where that is much. */
export function startProgram(
  program: string,
  { host, port, account, password, encrypted, authority }: DatabaseServer,
  address: string,
  database: string,
  args: readonly string[],
  output?: OutputPipe,
): ClientProgram {
  const target = {
    host,
    ...(!host.startsWith('/') && { hostaddr: address }),
    port: String(port),
    user: account,
    dbname: database,
    passfile: `/dev/fd/${firstFile}`,
    sslmode: encrypted ? 'verify-full' : 'disable',
    ...(encrypted && { sslrootcert: authority ? `/dev/fd/${firstFile + 1}` : systemAuthorities }),
    options: connectionOptions,
    application_name: 'lithodex',
  };
  const dsn = Object.entries(target)
    .map(([name, value]) => `${name}=${quotedValue(value)}`)
    .join(' ');
  return ClientProgram.start(programPath(program), [`--dbname=${dsn}`, ...args], {
    files: [`*:*:*:*:${escaped(password)}\n`, ...(authority ? [authority] : [])],
    env: { PGCONNECT_TIMEOUT: '10' },
    output,
  });
}
