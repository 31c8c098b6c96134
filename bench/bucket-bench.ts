import { spawn, type ChildProcess } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { once } from 'node:events';
import fs from 'node:fs';
import { S3 } from '@aws-sdk/client-s3';
import { closePools, connectorOf, HostLimits } from '@lithodex/connectors';
import { median } from '@lithodex/core';
import { DiskFolder, Store } from '@lithodex/engine';
import type { BucketFrom } from '@lithodex/kinds';
import { takePoint } from '@lithodex/mover';
import { BucketService, rights } from '@lithodex/standins';
import { quietly } from '../tests/support/store-kit';
import type { Kept, Result } from './result';

const keys = { accessKey: 'bench', secretKey: 'what opens the bench' };
const bucket = 'bench';
const objectBytes = 2000;
/** Objects whose bytes are read as well. */
const smallObjects = 20_000;
const wantedMb = 512;

/** What one process of the bench does: the plain listing and copy that anybody would write, and ours. */
export type BucketRun = 'list' | 'survey' | 'copy' | 'capture';
interface Told {
  readonly seconds: number;
  /** The same again, with nothing changed. */
  readonly again: number;
  readonly peakMb: number;
}

/** The service of the bench: a process of its own, whose objects are made up as they are read. */
export async function serveBucket(folder: string, objects: number, latencyMs: number): Promise<void> {
  const service = new BucketService({ folder, accounts: [{ ...keys, rights }] });
  const endpoint = await service.start();
  service.makeBucket(bucket);
  const keyOf = (n: number) => `soundings/${n % 97}/${String(n).padStart(9, '0')}.son`;
  service.shelf.makeUp(bucket, objects, objectBytes, keyOf, Date.now() - 60_000);
  service.switches = { ...service.switches, latencyMs };
  process.stdout.write(`${endpoint}\n`);
}

const seconds = async (act: () => Promise<unknown>): Promise<number> => {
  const from = performance.now();
  await act();
  return (performance.now() - from) / 1000;
};

/** One run, in a process of its own; tells how long it took and its memory. */
export async function bucketRun(run: BucketRun, endpoint: string, folder: string): Promise<void> {
  const from: BucketFrom = {
    kind: 'bucket',
    bucket,
    server: {
      kind: 'bucket',
      id: null,
      endpoint,
      region: 'us-east-1',
      ...keys,
      buckets: [],
      accessLists: false,
      versions: false,
      prices: null,
      authority: null,
    },
  };
  const times = await { list: plainListing, copy: plainCopy, survey, capture }[run](from, folder);
  const peak = /VmHWM:\s+(\d+)/.exec(fs.readFileSync('/proc/self/status', 'utf8'))?.[1];
  process.stdout.write(JSON.stringify({ ...times, peakMb: Math.round(Number(peak) / 1000) } satisfies Told));
}

const clientOf = ({ server: { endpoint, region, accessKey, secretKey } }: BucketFrom) =>
  new S3({ endpoint, region, forcePathStyle: true, credentials: { accessKeyId: accessKey, secretAccessKey: secretKey } });

async function* allKeys(s3: S3): AsyncGenerator<string> {
  let token: string | undefined;
  do {
    const page = await s3.listObjectsV2({ Bucket: bucket, ...(token && { ContinuationToken: token }) });
    for (const o of page.Contents ?? []) yield o.Key!;
    token = page.NextContinuationToken;
  } while (token);
}

async function plainListing(from: BucketFrom): Promise<Omit<Told, 'peakMb'>> {
  const s3 = clientOf(from);
  let count = 0;
  return {
    seconds: await seconds(async () => {
      for await (const _ of allKeys(s3)) count++;
    }),
    again: count,
  };
}

async function plainCopy(from: BucketFrom, folder: string): Promise<Omit<Told, 'peakMb'>> {
  const s3 = clientOf(from);
  fs.mkdirSync(folder);
  let n = 0;
  return {
    seconds: await seconds(async () => {
      for await (const Key of allKeys(s3)) {
        const { Body } = await s3.getObject({ Bucket: bucket, Key });
        fs.writeFileSync(`${folder}/${n++}`, await Body!.transformToByteArray());
      }
    }),
    again: 0,
  };
}

async function survey(from: BucketFrom): Promise<Omit<Told, 'peakMb'>> {
  const connector = await connectorOf('bucket');
  const ctx = { include: [], exclude: [], limits: HostLimits.none, free: null, say: () => undefined, warn: () => undefined };
  return { seconds: await seconds(() => connector.survey({ ...ctx, stopped: () => false }, from)), again: 0 };
}

async function capture(from: BucketFrom, folder: string): Promise<Omit<Told, 'peakMb'>> {
  fs.mkdirSync(folder);
  const store = await Store.create(new DiskFolder(folder), randomBytes(32), new Date());
  const ids = [1, 2].map((n) => `00000000-0000-4000-8000-${String(n).padStart(12, '0')}`);
  const take = (taskId: string, previous: string | null) => {
    const workload = { id: 'w', name: bucket, source: 'bench', path: '' };
    const asked = { taskId, seriesId: 's', workload, from, kind: 'incremental' as const, previous, moment: Date.now() };
    return takePoint(store, { ...asked, include: [], exclude: [] }, quietly);
  };
  const times = { seconds: await seconds(() => take(ids[0]!, null)), again: await seconds(() => take(ids[1]!, ids[0]!)) };
  await closePools();
  return times;
}

/** A bucket of a million objects listed, and again with nothing changed; small objects read, each over a line that takes a while: beside plain loops of the SDK. */
export async function bucketBench(
  folder: string,
  objects: number,
  runs: number,
  report: (r: Result) => void,
  keeps: (k: Kept) => void,
): Promise<void> {
  const large = await served(`${folder}/large`, objects, 0);
  try {
    const plain = await repeated(runs, 'list', large.endpoint, folder);
    const ours = await repeated(runs, 'survey', large.endpoint, folder);
    const name = `${objects / 1000} k objects`;
    const line = { bench: `buckets, ${name} listed`, peer: 'SDK listing', runs };
    report({ ...line, ours_s: ours.seconds, peer_s: plain.seconds, ratio: plain.seconds / ours.seconds, peak_mb: ours.peakMb });
    const taken = await repeated(1, 'capture', large.endpoint, folder);
    const again = { ...line, bench: `buckets, ${name}, nothing changed`, runs: 1 };
    report({ ...again, ours_s: taken.again, peer_s: plain.seconds, ratio: plain.seconds / taken.again, peak_mb: taken.peakMb });
    keeps({ bench: 'buckets, listing', found: ours.seconds / plain.seconds, below: 1.5, unit: 'of an SDK listing' });
    keeps({ bench: 'buckets, nothing changed', found: taken.again / plain.seconds, below: 1.3, unit: 'of an SDK listing' });
    keeps({ bench: 'buckets, memory', found: taken.peakMb, below: wantedMb, unit: 'MB' });
  } finally {
    large.process.kill();
  }
  const far = await served(`${folder}/far`, Math.min(objects, smallObjects), 5);
  try {
    const [plain, ours] = [await repeated(1, 'copy', far.endpoint, folder), await repeated(1, 'capture', far.endpoint, folder)];
    const line = { bench: 'buckets, small objects read, 5 ms away', peer: 'SDK copy, one by one', runs: 1, peak_mb: ours.peakMb };
    report({ ...line, ours_s: ours.seconds, peer_s: plain.seconds, ratio: plain.seconds / ours.seconds });
  } finally {
    far.process.kill();
  }
}

async function served(folder: string, objects: number, latencyMs: number): Promise<{ process: ChildProcess; endpoint: string }> {
  fs.mkdirSync(folder, { recursive: true });
  const child = spawn(process.execPath, [process.argv[1]!, '--bucket', folder, String(objects), String(latencyMs)], {
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  const [said] = (await once(child.stdout, 'data')) as [Buffer];
  return { process: child, endpoint: said.toString().trim() };
}

/** Medians of several runs. */
async function repeated(times: number, run: BucketRun, endpoint: string, folder: string): Promise<Told> {
  const all: Told[] = [];
  for (let n = 0; n < times; n++) {
    const own = `${folder}/run-${run}`;
    const child = spawn(process.execPath, [process.argv[1]!, '--bucket-run', run, endpoint, own], { stdio: ['ignore', 'pipe', 'inherit'] });
    let said = '';
    child.stdout.setEncoding('utf8').on('data', (text: string) => (said += text));
    await once(child, 'close');
    fs.rmSync(own, { recursive: true, force: true });
    all.push(JSON.parse(said) as Told);
  }
  const of = (key: keyof Told) => median(all.map((t) => t[key]));
  return { seconds: of('seconds'), again: of('again'), peakMb: Math.max(...all.map((t) => t.peakMb)) };
}
