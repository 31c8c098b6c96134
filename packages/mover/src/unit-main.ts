import { existsSync, readFileSync, rmSync } from 'node:fs';
import { setTimeout } from 'node:timers/promises';
import { parseArgs } from 'node:util';
import { MetalHands, RoomHands, RoomUnit } from '@lithodex/connectors';
import { endOnFault } from '@lithodex/net';
import { pino } from 'pino';
import { ServerError } from './api';
import { join } from './join';
import { Unit } from './unit';

const againMs = 5000;
const mostTimes = 12;

/** Reports in; after a loss of power the name is taken until the server misses who had it. */
async function joinWhenFree(at: string, by: string, as: string, file: string): Promise<void> {
  for (let time = 1; ; time++)
    try {
      await join(at, by, as, file);
      return;
    } catch (error) {
      if (!(error instanceof ServerError && error.code === 'NAME_TAKEN') || time === mostTimes) throw error;
      await setTimeout(againMs);
    }
}

const { values } = parseArgs({
  options: {
    server: { type: 'string' },
    'token-file': { type: 'string' },
    name: { type: 'string' },
    join: { type: 'string' },
    room: { type: 'string' },
    metal: { type: 'string' },
    'log-level': { type: 'string' },
  },
});
const { server, name, room, metal, join: code } = values;
const tokenFile = values['token-file'];
if (!server || !name || !tokenFile || (room === undefined) === (metal === undefined))
  throw new Error('usage: unit --server URL --name NAME --token-file FILE (--metal FOLDER | --room FILE) [--join CODE]');
const log = pino({ level: values['log-level'] ?? 'info' });
endOnFault(log);
if (code) await joinWhenFree(server, code, name, tokenFile);
if (!existsSync(tokenFile)) throw new Error('a unit reports in by a code the first time: give it with --join');
const hands = room === undefined ? new MetalHands(metal!) : new RoomHands(() => RoomUnit.parse(JSON.parse(readFileSync(room, 'utf8'))));
const unit = new Unit({ server, token: readFileSync(tokenFile, 'utf8').trim(), name, hands, log });
for (const signal of ['SIGTERM', 'SIGINT', 'disconnect'] as const)
  process.once(signal, () => {
    unit.stop();
    process.exit(0);
  });
// what it was let in with has served: the disks start from now on, or nobody wants it
const whole = await unit.run().finally(() => {
  rmSync(tokenFile, { force: true });
});
process.exit(whole ? 0 : 1);
