import { readFileSync } from 'node:fs';
import { hostname } from 'node:os';
import path from 'node:path';
import { parseArgs } from 'node:util';
import { endOnFault, privateAddressesSetting } from '@lithodex/net';
import { pino } from 'pino';
import { boundsOf } from './bounds';
import { askToJoin, join } from './join';
import { Mover } from './mover';

const { values } = parseArgs({
  options: {
    server: { type: 'string' },
    'token-file': { type: 'string' },
    keys: { type: 'string' },
    name: { type: 'string' },
    join: { type: 'string' },
    scripts: { type: 'string' },
    bounds: { type: 'string' },
    receive: { type: 'string' },
    attach: { type: 'string' },
    overlays: { type: 'string' },
    'log-level': { type: 'string' },
  },
});
if (!values.server || !values['token-file'])
  throw new Error(
    'usage: mover --server URL --token-file FILE [--keys DIR] [--name NAME] [--join CODE] [--receive HOST:PORT] [--attach ADDRESS] [--overlays DIR] [--scripts DIR] [--bounds FILE]',
  );
const name = values.name ?? hostname();
if (values.join) await join(values.server, values.join, name, values['token-file']);
else await askToJoin(values.server, name, values['token-file'], (text) => process.stderr.write(`${text}\n`));
// a mover that only reads has no keys
const keysFolder = values.keys ?? path.join(path.dirname(values['token-file']), 'keys');
const overlays = path.resolve(values.overlays ?? path.join(path.dirname(values['token-file']), 'overlays'));
const { bounds, privateAddresses, scanners } = boundsOf({
  file: values.bounds,
  tokenFile: values['token-file'],
  keysFolder,
  scripts: values.scripts,
  overlays,
});
process.env[privateAddressesSetting] = privateAddresses ? 'yes' : 'no';
const log = pino({ level: values['log-level'] ?? 'info' });
endOnFault(log);
const mover = new Mover(
  {
    server: values.server,
    token: readFileSync(values['token-file'], 'utf8').trim(),
    keysFolder,
    name,
    scripts: values.scripts,
    scanners,
    bounds,
    receive: values.receive,
    attachAt: values.attach,
    overlays,
  },
  log,
);
await mover.start();

const patienceMs = 10_000;
const stop = () => {
  setTimeout(() => process.exit(1), patienceMs).unref();
  void mover.stop().then(() => process.exit(0));
};
process.once('SIGTERM', stop);
process.once('SIGINT', stop);
process.once('disconnect', stop);
