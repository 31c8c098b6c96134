import { execFileSync, spawn, type ChildProcess } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { setTimeout } from 'node:timers/promises';
import { median } from '@lithodex/core';
import { closePools, connectorOf, findItem, findWithParents, HostLimits, OpenedTrees, type OpenPoint } from '@lithodex/connectors';
import { DiskFolder, Store } from '@lithodex/engine';
import { exportedOf, NbdServer, nbdUser } from '@lithodex/mover';
import { pointOfDisks } from '../tests/support/machine-point';
import type { Kept, Result } from './result';

const mib = 1 << 20;
const diskBytes = 100_000_000_000;
const folders = 12;
const filesPerFolder = 10_000;
const contentFiles = 200;
const contentBytes = 5 * mib;

const run = (command: string, args: string[]) => execFileSync(command, args, { stdio: ['ignore', 'pipe', 'pipe'], maxBuffer: 1 << 28 });

function timed(use: () => void): number {
  const began = performance.now();
  use();
  return (performance.now() - began) / 1000;
}

/** A sparse disk of 100 GB without a table: folders of ten thousand files, and a gigabyte of content. */
function makeDisk(folder: string): string {
  const tree = `${folder}/tree`;
  for (let n = 0; n < folders; n++) {
    fs.mkdirSync(`${tree}/many-${n}`, { recursive: true });
    for (let i = 0; i < filesPerFolder; i++) fs.writeFileSync(`${tree}/many-${n}/record number ${i} of the harbour.txt`, `record ${i}`);
  }
  fs.mkdirSync(`${tree}/content`);
  for (let n = 0; n < contentFiles; n++) {
    const half = Buffer.alloc(contentBytes / 2, `line ${n} of a log that repeats itself, as logs do\n`);
    fs.writeFileSync(`${tree}/content/${n}.bin`, Buffer.concat([half, randomBytes(contentBytes / 2)]));
  }
  const image = `${folder}/disk.raw`;
  fs.writeFileSync(image, '');
  fs.truncateSync(image, diskBytes);
  run('mkfs.ext4', ['-q', '-F', '-E', 'lazy_itable_init=1', '-d', tree, image]);
  fs.rmSync(tree, { recursive: true });
  return image;
}

async function listed(point: OpenPoint, opened: OpenedTrees, path: string): Promise<number> {
  const inside = (await opened.open(point, path))!;
  const { entry } = await findWithParents(inside.tree.trees, inside.tree.top, inside.rest);
  return (await inside.tree.rows(entry)).length;
}

/** Opens folders of a disk beside its own tool, brings a gigabyte back, and reads it as a block device beside one that serves the raw file. */
export async function insideBench(folder: string, runs: number, report: (r: Result) => void, keeps: (k: Kept) => void): Promise<void> {
  const image = makeDisk(folder);
  fs.mkdirSync(`${folder}/inside-store`);
  const store = await Store.create(new DiskFolder(`${folder}/inside-store`), randomBytes(32), new Date());
  const point = await pointOfDisks(store, 'bench', { disk: image });
  try {
    await openFolders(point, image, report, keeps);
    await bringBack(folder, point, image, runs, report, keeps);
    await readAsDevice(folder, point, image, runs, report);
  } finally {
    await closePools();
  }
}

async function openFolders(point: OpenPoint, image: string, report: (r: Result) => void, keeps: (k: Kept) => void): Promise<void> {
  const times: number[] = [];
  const peers: number[] = [];
  const opened = new OpenedTrees();
  for (let n = 0; n < folders; n++) {
    const began = performance.now();
    const count = await listed(point, opened, `disks/disk.raw/volume/many-${n}`);
    times.push((performance.now() - began) / 1000);
    if (count !== filesPerFolder) throw new Error(`${count} rows`);
    peers.push(timed(() => run('debugfs', ['-R', `ls -l /many-${n}`, image])));
  }
  const [first, ...later] = times;
  const sorted = [...later].sort((a, b) => a - b);
  keeps({ bench: 'inside: first folder of 10 000', found: first! * 1000, below: 2000, unit: 'ms' });
  keeps({ bench: 'inside: folder of 10 000, p95', found: sorted[Math.floor(sorted.length * 0.95)]! * 1000, below: 300, unit: 'ms' });
  const [ours, peer] = [median(later), median(peers)];
  report({
    bench: 'inside: folder of 10 000',
    peer: 'debugfs ls -l on the raw file',
    ours_s: ours,
    peer_s: peer,
    ratio: peer / ours,
    runs: later.length,
    peak_mb: 0,
  });
}

async function bringBack(
  folder: string,
  point: OpenPoint,
  image: string,
  runs: number,
  report: (r: Result) => void,
  keeps: (k: Kept) => void,
): Promise<void> {
  const [ours, peers]: [number[], number[]] = [[], []];
  for (let n = 0; n < runs; n++) {
    const path = 'disks/disk.raw/volume/content';
    const opened = new OpenedTrees();
    const began = performance.now();
    await (
      await connectorOf('files')
    ).restore(
      {
        taskId: 'bench',
        trial: false,
        edited: undefined,
        limits: HostLimits.none,
        phase: () => undefined,
        note: () => undefined,
        done: ({ action }) => {
          if (action === 'failed') throw new Error('not restored');
        },
        drain: () => undefined,
        moved: () => undefined,
        stopped: () => false,
      },
      [{ open: () => Promise.resolve(point), find: () => findItem(point, path, opened), path, to: 'content', base: `${folder}/back-${n}` }],
      { kind: 'files', rule: 'leave', stamp: '' },
    );
    ours.push((performance.now() - began) / 1000);
    fs.mkdirSync(`${folder}/peer-${n}`);
    peers.push(timed(() => run('debugfs', ['-R', `rdump /content ${folder}/peer-${n}`, image])));
    run('diff', ['-r', `${folder}/back-${n}/content`, `${folder}/peer-${n}/content`]);
    fs.rmSync(`${folder}/back-${n}`, { recursive: true });
    fs.rmSync(`${folder}/peer-${n}`, { recursive: true });
  }
  const [own, peer] = [median(ours), median(peers)];
  report({
    bench: 'inside: 1 GB brought back',
    peer: 'debugfs rdump from the raw file',
    ours_s: own,
    peer_s: peer,
    ratio: peer / own,
    runs,
    peak_mb: 0,
  });
  keeps({ bench: 'inside: seconds for 100 MB', found: own / ((contentFiles * contentBytes) / 1e8), below: 1, unit: 's' });
}

async function readAsDevice(folder: string, point: OpenPoint, image: string, runs: number, report: (r: Result) => void): Promise<void> {
  const key = randomBytes(32);
  fs.writeFileSync(`${folder}/keys.psk`, `${nbdUser}:${key.toString('hex')}\n`, { mode: 0o600 });
  const exported = exportedOf(await (await connectorOf('machine')).device!(point, 'disks/disk.raw'));
  const server = new NbdServer({ exports: new Map([['disk', exported]]), onRead: () => undefined }, key);
  const port = await server.listen('127.0.0.1');
  const peerPort = 10_000 + Math.floor(Math.random() * 20_000);
  const peer = spawn(
    'qemu-nbd',
    [
      '--read-only',
      '--persistent',
      '--shared=16',
      '-f',
      'raw',
      '-b',
      '127.0.0.1',
      '-p',
      String(peerPort),
      '-x',
      'disk',
      '--object',
      `tls-creds-psk,id=t,dir=${folder},endpoint=server`,
      '--tls-creds',
      't',
      image,
    ],
    { stdio: 'inherit' },
  );
  const copied = (at: number) => copy(`nbds://${nbdUser}@127.0.0.1:${at}/disk?tls-psk-file=${folder}/keys.psk`);
  const [ours, peers]: [number[], number[]] = [[], []];
  try {
    await setTimeout(1000);
    for (let n = 0; n < runs; n++) {
      ours.push(await copied(port));
      peers.push(await copied(peerPort));
    }
  } finally {
    server.close();
    peer.kill();
  }
  const [own, other] = [median(ours), median(peers)];
  report({
    bench: 'inside: read as a device',
    peer: 'the raw file served by qemu-nbd, both encrypted',
    ours_s: own,
    peer_s: other,
    ratio: other / own,
    runs,
    peak_mb: 0,
  });
}

/** Seconds a client takes to read all of a device that is not a hole. */
async function copy(address: string): Promise<number> {
  const began = performance.now();
  const client: ChildProcess = spawn('nbdcopy', [address, 'null:'], { stdio: 'inherit' });
  const code = await new Promise((resolve) => client.once('exit', resolve));
  if (code !== 0) throw new Error('nbdcopy failed');
  return (performance.now() - began) / 1000;
}
