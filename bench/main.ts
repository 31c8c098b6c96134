import fs from 'node:fs';
import os from 'node:os';
import { parentPort } from 'node:worker_threads';
import { bucketBench, bucketRun, serveBucket, type BucketRun } from './bucket-bench';
import { catalogBench } from './catalog-bench';
import { databaseBench } from './database-bench';
import { imageBench, servePlatform } from './image-bench';
import { insideBench } from './inside-bench';
import { mailBench } from './mail-bench';
import { logLagBench } from './log-lag-bench';
import { promiseBenches } from './promise-benches';
import { asText, keptAsText, type Kept, type Result } from './result';
import { beUnit, rebuildBench } from './rebuild-bench';
import { replayBench } from './replay-bench';
import { scaleBench } from './scale-bench';
import { simulateHere, simulationBench } from './simulation-bench';
import { storeBenches } from './store-benches';
import { taskBench } from './task-bench';
import { scanBench } from './scan-bench';
import { readSensitive, sensitiveBench } from './sensitive-bench';
import { strikeBench } from './strike-bench';
import { unusualBench } from './unusual-bench';

const all = [
  'first-full',
  'nothing-changed',
  'one-percent',
  'restore',
  'catalog',
  'scale',
  'simulation',
  'image',
  'known-data',
  'memory',
  'tasks',
  'database',
  'replay',
  'log-lag',
  'inside',
  'mail',
  'rebuild',
  'buckets',
  'unusual',
  'scan',
  'sensitive',
  'strike',
] as const;
const args = process.argv.slice(2);

if (args[0] === '--platform') {
  await servePlatform(args[1]!);
  await new Promise(() => undefined);
}
if (args[0] === '--unit') {
  await beUnit(args[1]!, args[2]!);
  process.exit(0);
}
if (args[0] === '--bucket') {
  await serveBucket(args[1]!, Number(args[2]), Number(args[3]));
  await new Promise(() => undefined);
}
if (args[0] === '--bucket-run') {
  await bucketRun(args[1] as BucketRun, args[2]!, args[3]!);
  process.exit(0);
}
if (args[0] === '--sensitive') {
  parentPort!.postMessage(readSensitive(Number(args[1])));
  process.exit(0);
}
if (args[0] === '--simulate') {
  simulateHere(Number(args[1]));
  process.exit(0);
}
const json = args.includes('--json');
const runs = Number(args.find((a) => a.startsWith('--runs='))?.slice(7) ?? 5);
/** Of the database that is read. */
const databaseBytes = Number(args.find((a) => a.startsWith('--database-mb='))?.slice(14) ?? 2000) * 1_000_000;
/** Of the mail server. */
const people = Number(args.find((a) => a.startsWith('--people='))?.slice(9) ?? 20);
const mails = Number(args.find((a) => a.startsWith('--mails='))?.slice(8) ?? 1000);
/** Of the bucket. */
const objects = Number(args.find((a) => a.startsWith('--objects='))?.slice(10) ?? 1_000_000);
/** Of the catalog. */
const catalogItems = Number(args.find((a) => a.startsWith('--items='))?.slice(8) ?? 1_000_000);
/** Of the set of points that is judged. */
const seed = Number(args.find((a) => a.startsWith('--seed='))?.slice(7) ?? 1);
/** A set of somebody else's, instead of ours. */
const givenSet = args.find((a) => a.startsWith('--set='))?.slice(6);
/** Where our set is written to. */
const writtenSet = args.find((a) => a.startsWith('--write-set='))?.slice(12);
const chosen = args.filter((a) => !a.startsWith('--'));
const unknown = chosen.find((a) => !all.includes(a as (typeof all)[number]));
if (unknown) throw new Error(`There is no bench "${unknown}"; there are ${all.join(', ')}.`);
const wanted = (name: string) => chosen.length === 0 || chosen.includes(name);
const folder = fs.mkdtempSync(`${process.env['LITHODEX_TMP'] ?? os.tmpdir()}/lithodex-bench-`);
const round = (n: number) => Number(n.toFixed(4));
const report = (r: Result) => {
  process.stdout.write(
    `${json ? JSON.stringify({ ...r, ours_s: round(r.ours_s), peer_s: round(r.peer_s), ratio: round(r.ratio) }) : asText(r)}\n`,
  );
};
const keeps = (k: Kept) => {
  process.stdout.write(`${json ? JSON.stringify({ ...k, found: round(k.found) }) : keptAsText(k)}\n`);
};
try {
  if (all.slice(0, 4).some(wanted)) storeBenches(folder, wanted, runs, report);
  if (wanted('simulation')) await simulationBench(runs, report);
  if (wanted('image')) await imageBench(folder, runs, report);
  if (wanted('inside')) await insideBench(folder, Math.min(runs, 3), report, keeps);
  if (wanted('mail')) await mailBench(folder, people, mails, Math.min(runs, 3), report, keeps);
  if (wanted('buckets')) await bucketBench(folder, objects, Math.min(runs, 3), report, keeps);
  if (wanted('unusual')) unusualBench(seed, givenSet, writtenSet, keeps);
  if (wanted('scan')) await scanBench(folder, Math.min(runs, 5), report, keeps);
  if (wanted('sensitive')) await sensitiveBench(seed, keeps);
  if (wanted('strike')) await strikeBench(folder, keeps);
  if (wanted('rebuild')) await rebuildBench(folder, Math.min(runs, 3), report, keeps);
  promiseBenches(folder, wanted, keeps);
  if (wanted('catalog')) await catalogBench(folder, catalogItems, report);
  if (wanted('tasks')) await taskBench(keeps);
  if (wanted('database')) await databaseBench(folder, databaseBytes, Math.min(runs, 3), report, keeps);
  if (wanted('replay')) await replayBench(folder, Math.min(runs, 3), report);
  if (wanted('log-lag')) await logLagBench(keeps);
  if (wanted('scale')) await scaleBench(folder, keeps);
} finally {
  fs.rmSync(folder, { recursive: true, force: true });
}
process.exit(0);
