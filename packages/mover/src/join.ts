import { createHash, randomBytes } from 'node:crypto';
import { existsSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { pairingNumber } from '@lithodex/contract';
import { ServerApi } from './api';

/** Trades a code that works once for a token, kept in a file that only this account can read; one that is there already is kept. Throws what the server refuses. */
export async function join(server: string, code: string, mover: string, tokenFile: string): Promise<void> {
  if (existsSync(tokenFile)) return;
  const { token } = await new ServerApi(server, '').call('joinMover', { code, mover });
  writeFileSync(tokenFile, `${token}\n`, { mode: 0o600, flag: 'wx' });
}

const askEveryMs = 5000;

/**
 * Asks to be let in, with a token of its own making that nobody else ever sees, and waits until somebody has decided. Started again it goes on with the same. `say`: told in words.
 * Throws where it was refused, and what the server refuses.
 */
export async function askToJoin(
  server: string,
  mover: string,
  tokenFile: string,
  say: (text: string) => void,
  everyMs = askEveryMs,
): Promise<void> {
  if (existsSync(tokenFile)) return;
  const own = `${tokenFile}.asking`;
  if (!existsSync(own)) writeFileSync(own, `lxt_${randomBytes(32).toString('base64url')}\n`, { mode: 0o600, flag: 'wx' });
  const sum = createHash('sha256').update(readFileSync(own, 'utf8').trim()).digest('hex');
  const api = new ServerApi(server, '');
  say(
    `${mover} asks ${server} to be let in. An administrator does so under Runs, Movers, where the number has to be ${pairingNumber(sum)}.`,
  );
  for (;;) {
    const { state } = await api.insist('askToJoin', { mover, sum }, '', () => false);
    if (state === 'refused') throw new Error(`${mover} was not let in. Remove ${own} to ask anew.`);
    if (state === 'admitted') break;
    await new Promise((resume) => setTimeout(resume, everyMs));
  }
  renameSync(own, tokenFile);
  say(`${mover} was let in.`);
}
