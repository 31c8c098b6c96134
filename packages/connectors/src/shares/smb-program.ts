import { spawn, type ChildProcessWithoutNullStreams } from 'node:child_process';
import { rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { AddressRefused, addressOf } from '@lithodex/net';
import { ownFolder } from '../own-folder';
import { SourceError } from '../source-error';

export const smbProgram = 'smbclient';

/** What the program says when the other side refuses who comes. */
const refusals = /LOGON_FAILURE|ACCESS_DENIED|ACCOUNT_\w+|PASSWORD_\w+|BAD_NETWORK_NAME|MEDIA_WRITE_PROTECTED/;
const away =
  /CONNECTION|HOST_UNREACHABLE|NETWORK|IO_TIMEOUT|INVALID_NETWORK_RESPONSE|PIPE_BROKEN|UNEXPECTED_NETWORK|NETWORK_NAME_DELETED|USER_SESSION_DELETED/;

/** Where a program of the protocol goes, and as whom. */
export interface SmbWay {
  readonly host: string;
  readonly port: number;
  readonly account: string;
  readonly password: string;
}

export interface RunningProgram {
  readonly child: ChildProcessWithoutNullStreams;
  /** A folder of its own, which goes with it. */
  readonly folder: string;
  /** Takes the folder away. */
  readonly clear: () => void;
}

/** Starts a program of the SMB client, told by `server` where the server is; what opens the server is in a file that only we can read, never among its arguments. Throws SHARE_AWAY. */
export async function startSmb(
  { host, port, account, password }: SmbWay,
  program: readonly [string, ...string[]],
  rest: readonly string[],
  server: (reached: string) => readonly string[] = (reached) => ['-I', reached, '-p', String(port)],
): Promise<RunningProgram> {
  let reached: string;
  try {
    reached = await addressOf(host);
  } catch (error) {
    throw new SourceError('SHARE_AWAY', error instanceof AddressRefused ? error.message.replace(/\.$/, '') : `${host} is not known`);
  }
  const folder = ownFolder('share');
  const clear = () => {
    rmSync(folder, { recursive: true, force: true });
  };
  try {
    const secret = path.join(folder, 'opener');
    const [, domain, name = account] = /^([^\\]+)\\(.+)$/.exec(account) ?? [];
    writeFileSync(secret, `${domain === undefined ? '' : `domain=${domain}\n`}username=${name}\npassword=${password}\n`, { mode: 0o600 });
    const [command, ...before] = program;
    const fixed = ['-s', '/dev/null', '-A', secret, '--option=client min protocol=SMB3', '--client-protection=encrypt', ...server(reached)];
    // times are told and taken in the zone of the process
    const env = { PATH: process.env['PATH'], LC_ALL: 'C.UTF-8', TZ: 'UTC' };
    return { child: spawn(command, [...before, ...fixed, ...rest], { env }), folder, clear };
  } catch (error) {
    clear();
    throw error;
  }
}

/** Why the program failed, by what it said. */
export function whyNot(said: string): SourceError {
  const status = /NT_STATUS_(\w+)/.exec(said)?.[1] ?? '';
  if (refusals.test(status)) return new SourceError('SHARE_REFUSED', status);
  if (status === 'DISK_FULL') return new SourceError('NO_ROOM_THERE');
  if (away.test(status)) return new SourceError('SHARE_AWAY', status);
  return new SourceError('SHARE_FAILED', status || 'it did not say why');
}

/** Words in the commands of the program, which knows no way to write a quotation mark: names without one are all there are. */
export const quoted = (text: string) => `"${text.replaceAll('/', '\\')}"`;
