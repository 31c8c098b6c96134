import { spawn, spawnSync } from 'node:child_process';
import { randomBytes, randomUUID } from 'node:crypto';
import { once } from 'node:events';
import fs from 'node:fs';
import net, { type Socket } from 'node:net';
import { beRebuilt, connectorOf, HostLimits, type RestoreContext } from '@lithodex/connectors';
import { DiskFolder, Store, topEntry, type Root } from '@lithodex/engine';
import type { ServerSystem, UnitTo } from '@lithodex/kinds';
import { takePoint } from '@lithodex/mover';
import type { Kept, Result } from './result';
import { makeSampleTree } from './sample-tree';

const smallFiles = 8600;
const largeBytes = 200_000_000;
const gigabyte = 1e9;
/** Memory of a unit's program, MB. */
const wantedMb = 300;

const disk = { id: 'A', bytes: 64 * gigabyte, serial: '', model: '', port: '', first: true, holds: '' };
const volume = { device: 'sda1', layer: 'partition', on: ['sda1'], fileSystem: 'ext4', uuid: '', label: '', bytes: 60 * gigabyte } as const;
const system: ServerSystem = {
  host: 'bench',
  machineId: '',
  system: '',
  firmware: 'uefi',
  bootEntries: [],
  architecture: 'x86_64',
  processor: '',
  cores: 1,
  memory: gigabyte,
  disks: [],
  volumes: [{ ...volume, on: ['sda1'], used: null, mount: '/', options: '', taken: true }],
  loader: '',
  kernels: [],
  cards: [],
  routes: [],
  nameServers: [],
  controllers: [],
  zone: '',
  packages: 0,
  unread: {},
};
const to: UnitTo = {
  name: 'bench',
  firmware: 'uefi',
  disks: [disk],
  layout: [{ disk: 'A', table: 'gpt', partitions: [{ no: 1, start: 1 << 20, bytes: 60 * gigabyte, for: { volume: 'sda1' } }] }],
  asItself: true,
};

/** The unit of the bench: a process of its own that writes into a folder. */
export async function beUnit(socket: string, folder: string): Promise<void> {
  const stream = net.connect(socket);
  await once(stream, 'connect');
  const facts = {
    firmware: 'uefi',
    architecture: '',
    processor: '',
    cores: 1,
    memory: 0,
    cards: [],
    controllers: [],
    clock: 0,
    disks: [disk],
  } as const;
  const whole = await beRebuilt(
    stream,
    {
      facts: () => Promise.resolve({ ...facts, cards: [], controllers: [], disks: [disk] }),
      halfMade: () => Promise.resolve(new Map<string, string>()),
      begin: () =>
        Promise.resolve({
          folderOf: () => {
            fs.mkdirSync(folder);
            return Promise.resolve(folder);
          },
          finish: () => {
            spawnSync('sync', ['-f', folder]);
            return Promise.resolve();
          },
          giveUp: () => Promise.resolve(),
        }),
    },
    () => Promise.resolve(),
  );
  const peak = /VmHWM:\s+(\d+)/.exec(fs.readFileSync('/proc/self/status', 'utf8'))?.[1];
  process.stdout.write(JSON.stringify({ whole, peakMb: Math.round(Number(peak) / 1000) }));
}

/** A server written by a unit, each file compared, beside tar that unpacks the same files from a file of this disk. */
export async function rebuildBench(folder: string, runs: number, report: (r: Result) => void, keeps: (k: Kept) => void): Promise<void> {
  const source = `${folder}/server`;
  makeSampleTree(source, smallFiles, largeBytes);
  spawnSync('tar', ['-cf', `${folder}/server.tar`, '-C', source, '.']);
  fs.mkdirSync(`${folder}/rebuild-store`);
  const store = await Store.create(new DiskFolder(`${folder}/rebuild-store`), randomBytes(32), new Date(0));
  const from = { kind: 'files', folder: source, readAs: null, crossFileSystems: false, wholeServer: false, targetFolders: [] } as const;
  const { root } = await takePoint(
    store,
    {
      taskId: 't1',
      seriesId: 's1',
      workload: { id: 'w1', name: 'bench', source: 'bench', path: source },
      kind: 'full',
      previous: null,
      moment: 1,
      include: [],
      exclude: [],
      from: { ...from, targetFolders: [] },
    },
    {
      limits: HostLimits.none,
      alive: () => Promise.resolve([]),
      now: () => 1,
      warn: () => undefined,
      note: () => undefined,
      progress: () => undefined,
      stopped: () => false,
    },
  );
  const [ours, peers]: [number[], number[]] = [[], []];
  let peak = 0;
  for (let i = 0; i < runs; i++) {
    const made = `${folder}/made`;
    const unit = await ourRun(folder, made, store, { ...root, content: { ...root.content, facts: { kind: 'server', system, parts: [] } } });
    ours.push(unit.seconds);
    peak = Math.max(peak, unit.peakMb);
    fs.rmSync(made, { recursive: true });
    fs.mkdirSync(made);
    const began = performance.now();
    spawnSync('tar', ['-xpf', `${folder}/server.tar`, '-C', made]);
    spawnSync('sync', ['-f', made]);
    peers.push((performance.now() - began) / 1000);
    fs.rmSync(made, { recursive: true });
  }
  const median = (all: number[]) => all.sort((a, b) => a - b)[Math.floor(all.length / 2)]!;
  const [own, peer] = [median(ours), median(peers)];
  report({ bench: 'rebuild, compared too', peer: 'tar x', ours_s: own, peer_s: peer, ratio: peer / own, runs, peak_mb: peak });
  keeps({ bench: 'memory of a unit', found: peak, below: wantedMb, unit: 'MB' });
}

async function ourRun(folder: string, made: string, store: Store, root: Root): Promise<{ seconds: number; peakMb: number }> {
  const socket = `${folder}/unit.sock`;
  fs.rmSync(socket, { force: true });
  const server = net.createServer().listen(socket);
  await once(server, 'listening');
  const coming = once(server, 'connection') as Promise<[Socket]>;
  const child = spawn(process.execPath, [process.argv[1]!, '--unit', socket, made], { stdio: ['ignore', 'pipe', 'inherit'] });
  let said = '';
  child.stdout.setEncoding('utf8').on('data', (text: string) => (said += text));
  const ended = once(child, 'close');
  const [stream] = await coming;
  const ctx: RestoreContext = {
    taskId: randomUUID(),
    trial: false,
    edited: undefined,
    limits: HostLimits.none,
    unit: (_, use) => use(stream),
    phase: () => undefined,
    note: () => undefined,
    done: () => undefined,
    drain: () => undefined,
    moved: () => undefined,
    stopped: () => false,
  };
  const point = { kept: store, store, root, top: topEntry(root) };
  const pick = { open: () => Promise.resolve(point), find: () => Promise.reject(new Error('not asked')), path: '', to: '', base: '' };
  const began = performance.now();
  await (await connectorOf('files')).restore(ctx, [pick], { kind: 'files', rule: 'leave', stamp: '', unit: to });
  const seconds = (performance.now() - began) / 1000;
  await ended;
  server.close();
  const { whole, peakMb } = JSON.parse(said) as { whole: boolean; peakMb: number };
  if (!whole) throw new Error('the unit did not become whole');
  return { seconds, peakMb };
}
