import { endOnFault } from '@lithodex/net';
import { pino } from 'pino';
import { readConfig } from './base/config';
import { migrations } from './base/db/migrations';
import { runServer } from './run-server';

const file = process.argv[2];
if (!file) throw new Error('usage: server CONFIG | --schema');
if (file === '--schema') {
  process.stdout.write(`${migrations.at(-1)!.name}\n`);
  process.exit(0);
}
endOnFault(pino({ level: 'error' }));
const server = await runServer(readConfig(file));
process.send?.({ ready: true, port: server.port });

let stopping = false;
const stop = () => {
  if (stopping) return;
  stopping = true;
  void server.close().then(() => process.exit(0));
};
process.on('SIGTERM', stop);
process.on('SIGINT', stop);
process.on('disconnect', stop);
