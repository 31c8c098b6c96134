import { readFileSync } from 'node:fs';
import { readConfig } from '@lithodex/server';
import { History } from './history';

interface Standins {
  readonly port: number;
  readonly accessKey: string;
  readonly secretKey: string;
  readonly buckets: readonly [{ readonly name: string }];
}

const [, , configFile, state, standinFile] = process.argv;
if (!configFile || !state || !standinFile) throw new Error('usage: demo CONFIG STATE STANDINS');
const { port, accessKey, secretKey, buckets } = JSON.parse(readFileSync(standinFile, 'utf8')) as Standins;
const bucket = { endpoint: `http://127.0.0.1:${port}`, bucket: buckets[0].name, accessKey, secretKey };
await new History(readConfig(configFile), state, bucket, (text) => process.stderr.write(`${text}\n`)).live();
process.exit(0);
