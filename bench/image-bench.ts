import { spawn } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { batchRanges, lengthOf, median } from '@lithodex/core';
import { changeIdsOf, closePools, PlatformClient, SlidingWork } from '@lithodex/connectors';
import { DiskFolder, Store } from '@lithodex/engine';
import type { PlatformRef } from '@lithodex/kinds';
import { takePoint } from '@lithodex/mover';
import { quietly } from '../tests/support/store-kit';
import { platformRights, PlatformService } from '@lithodex/standins';
import type { Result } from './result';

const gigabyte = 1_000_000_000;
const imageBytes = 40 * gigabyte;
const dataBytes = 4 * gigabyte;
const block = 65_536;
const account = { name: 'keeper', password: 'bench', passwordEnds: null, certificate: null, rights: platformRights };

/** The platform as a process of its own, as it is in life. Prints its address. */
export async function servePlatform(folder: string): Promise<void> {
  const service = new PlatformService({ folder });
  service.platform.describe({
    clusters: [{ name: 'harbour', location: '', hosts: ['mole-1'], networks: ['quay'] }],
    storages: [{ name: 'fast', capacity: 1e13, hosts: ['mole-1'] }],
    accounts: [account],
  });
  service.signIn.setAccounts([account]);
  process.stdout.write(`${await service.start()}\n`);
}

/** Half text-like, half random, told apart by place so that little repeats. */
function content(at: number): Buffer {
  if ((at / block) % 2) return randomBytes(block);
  const line = `${at} 06:12 gate opened by the pilot of the day, tide 1.42 m\n`;
  return Buffer.alloc(block, line);
}

/** Writes `bytes` in blocks, spread over the image. */
async function fill(client: PlatformClient, id: string, disk: string, places: readonly number[]): Promise<void> {
  const work = new SlidingWork(4);
  for (let at = 0; at < places.length; at += 64) {
    const part = places.slice(at, at + 64);
    await work.add(() =>
      client.write(
        id,
        disk,
        part.map((place) => [place, block] as const),
        part.map(content),
      ),
    );
  }
  await work.idle();
}

/** 1 Gbit a second. */
const line = 125_000_000;

/** A 40 GB image of which a tenth is written; 1 % of that changes between points. The peer reads the same changed bytes over the same connections, and throws them away. */
export async function imageBench(folder: string, runs: number, report: (r: Result) => void): Promise<void> {
  const platform = spawn(process.execPath, [process.argv[1]!, '--platform', `${folder}/platform`], {
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  const endpoint = await new Promise<string>((resolve) => platform.stdout.once('data', (data: Buffer) => resolve(data.toString().trim())));
  const place: PlatformRef = {
    id: null,
    way: 'network' as const,
    family: 'hosts',
    endpoint,
    opener: { by: 'password', account: account.name, password: account.password },
  };
  const client = new PlatformClient(place);
  try {
    const settings = { host: 'mole-1', folder: '/', tags: [], template: false, running: false, helper: true, processors: 1, memory: 512 };
    const { id, disks } = await client.create({ name: 'bench', ...settings, firmware: 'efi', system: '', networks: ['quay'], note: '' }, [
      { label: 'data', size: imageBytes, storage: 'fast' },
    ]);
    const disk = disks[0]!.id;
    const count = Math.floor(dataBytes / block);
    const extent = 256;
    const places = Array.from({ length: count }, (_, i) => (Math.floor(i / extent) * extent * 10 + (i % extent)) * block).filter(
      (p) => p + block <= imageBytes,
    );
    await fill(client, id, disk, places);
    fs.mkdirSync(`${folder}/image-store`);
    const store = await Store.create(new DiskFolder(`${folder}/image-store`), randomBytes(32), new Date());
    const take = (taskId: string, previous: string | null) =>
      takePoint(
        store,
        {
          taskId,
          seriesId: 'image',
          workload: { id: '1', name: 'bench', source: 'bench', path: '' },
          kind: previous ? 'incremental' : 'full',
          previous,
          moment: 0,
          include: [],
          exclude: [],
          from: { kind: 'machine', platform: place, id, cluster: '', location: '', inside: null, snapshot: null },
        },
        quietly,
      );
    await take('p0', null);
    let point = 0;
    const measure = async (name: string, peer: string, lineRate: number | null) => {
      await fetch(`${endpoint}/people/switches`, { method: 'POST', body: JSON.stringify({ lineRate }) });
      const ours: number[] = [];
      const theirs: number[] = [];
      for (let run = 0; run <= runs; run++) {
        const changed = new Set(
          Array.from({ length: Math.floor(places.length / 100) }, () => places[Math.floor(Math.random() * places.length)]!),
        );
        await fill(
          client,
          id,
          disk,
          [...changed].sort((a, b) => a - b),
        );
        const changeIds = changeIdsOf((await store.root('image', `p${point}`))!.root);
        let began = performance.now();
        await readChanges(client, id, disk, changeIds[disk]!);
        const peerMs = performance.now() - began;
        began = performance.now();
        const { root } = await take(`p${point + 1}`, `p${point}`);
        const mine = performance.now() - began;
        point++;
        if (root.totals.read !== changed.size * block) throw new Error(`read ${root.totals.read} of ${changed.size * block} changed bytes`);
        // the first round is there to warm both up
        if (run === 0) continue;
        ours.push(mine / 1000);
        theirs.push(peerMs / 1000);
      }
      const [ours_s, peer_s] = [median(ours), median(theirs)];
      const peak_mb = Math.round(process.resourceUsage().maxRSS / 1024);
      report({ bench: name, peer, ours_s, peer_s, ratio: peer_s / ours_s, runs, peak_mb });
    };
    await measure('image, 1 % changed, 1 Gbit/s', 'reading those bytes over the same line', line);
    await measure('image, 1 % changed, from memory', 'reading those bytes', null);
  } finally {
    client.close();
    platform.kill();
    await closePools();
    for (const name of ['platform', 'image-store']) fs.rmSync(`${folder}/${name}`, { recursive: true, force: true });
  }
}

/** What the peer does: asks what changed and reads it, many at a time, as we do. */
async function readChanges(client: PlatformClient, id: string, disk: string, since: string): Promise<number> {
  const { id: snapshot } = await client.takeSnapshot(id, 'peer', false);
  const ranges = await client.ranges(id, disk, { snapshot, since });
  const work = new SlidingWork(4);
  for (const batch of batchRanges(ranges, 4 << 20))
    await work.add(async () => {
      await client.read(id, disk, batch, snapshot);
    });
  await work.idle();
  await client.removeSnapshot(id, snapshot);
  return lengthOf(ranges);
}
