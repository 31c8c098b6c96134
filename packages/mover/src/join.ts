import { existsSync, writeFileSync } from 'node:fs';
import { ServerApi } from './api';

/** Trades a code that works once for a token, kept in a file that only this account can read; one that is there already is kept. Throws what the server refuses. */
export async function join(server: string, code: string, mover: string, tokenFile: string): Promise<void> {
  if (existsSync(tokenFile)) return;
  const { token } = await new ServerApi(server, '').call('joinMover', { code, mover });
  writeFileSync(tokenFile, `${token}\n`, { mode: 0o600, flag: 'wx' });
}
