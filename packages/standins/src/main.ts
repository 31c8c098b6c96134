import { readFileSync } from 'node:fs';
import { BucketService, rights } from './bucket/service';

interface Settings {
  readonly folder: string;
  readonly port: number;
  readonly accessKey: string;
  readonly secretKey: string;
  readonly buckets: readonly { readonly name: string; readonly lock: boolean }[];
}

/** The stand-ins as a process of their own: usage `standins SETTINGS`, a JSON file. Tells its parent when it is ready. */
const settings = JSON.parse(readFileSync(process.argv[2]!, 'utf8')) as Settings;
const { accessKey, secretKey } = settings;
const service = new BucketService({ ...settings, accounts: [{ accessKey, secretKey, rights: rights.filter((r) => r !== 'bypass') }] });
await service.start();
for (const { name, lock } of settings.buckets) service.makeBucket(name, lock);
process.send?.('ready');
for (const signal of ['SIGINT', 'SIGTERM'] as const) process.on(signal, () => void service.stop().then(() => process.exit(0)));
