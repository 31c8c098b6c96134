import { execFile } from 'node:child_process';
import fs from 'node:fs';
import path from 'node:path';
import { promisify } from 'node:util';
import { z } from 'zod';
import { countOf, formatList } from '@lithodex/core';
import { NetworkCard, UnitDisk, UnitFacts } from '@lithodex/kinds';
import { SourceError } from '../source-error';
import { clearHalfMade, halfMadeBy, knownOf, markHalfMade } from './half-made';
import { makePlaces } from './staged-tree';
import type { UnitDisksBegun, UnitHands } from './unit-hands';
import type { Order } from './unit-messages';
import { writeDisk } from './write-disks';

/** A machine whose disks are files, as it stands in a machine room that is made up. */
export const RoomUnit = z.strictObject({
  facts: UnitFacts.omit({ disks: true, clock: true }).extend({ cards: z.array(NetworkCard).max(64) }),
  disks: z
    .array(
      UnitDisk.omit({ bytes: true, holds: true }).extend({
        /** Where it lies. */
        file: z.string().regex(/^\//, 'start with /'),
        /** It fails when so much of it is written; null for never. */
        failsAt: z.number().nullable().default(null),
      }),
    )
    .max(64),
  /** Folder for what is put together before it is written. */
  work: z.string().regex(/^\//, 'start with /'),
});
export type RoomUnit = z.infer<typeof RoomUnit>;

const Table = z.object({
  partitiontable: z.object({ partitions: z.array(z.object({ start: z.number(), name: z.string().optional() })).default([]) }),
});
const sectorBytes = 512;
const askMs = 20_000;
const asked = promisify(execFile);

/** What is on a disk, in words: the labels of its volumes; '' for nothing. */
async function holdsOf(file: string): Promise<string> {
  const bare = async (at: number) => {
    try {
      const said = await asked('blkid', ['--probe', '--offset', String(at), '--output', 'export', file], { timeout: askMs });
      const of = (key: string) => new RegExp(`^${key}=(.*)$`, 'm').exec(said.stdout)?.[1]?.replace(/\\(.)/g, '$1');
      return of('TYPE') ? `${of('LABEL') ? `“${of('LABEL')}”, ` : ''}${of('TYPE')}` : undefined;
    } catch {
      return undefined;
    }
  };
  try {
    const { stdout } = await asked('sfdisk', ['--json', file], { timeout: askMs });
    const { partitions } = Table.parse(JSON.parse(stdout)).partitiontable;
    const volumes = await Promise.all(partitions.slice(0, 8).map((p) => bare(p.start * sectorBytes)));
    const known = volumes.filter((v) => v !== undefined);
    return `${countOf(partitions.length, 'partition')}${known.length ? `: ${formatList(known)}` : ''}`;
  } catch {
    return (await bare(0)) ?? '';
  }
}

/** The hands of a unit whose disks are files. */
export class RoomHands implements UnitHands {
  constructor(private readonly unit: () => RoomUnit) {}

  async facts(): Promise<UnitFacts> {
    const { facts, disks } = this.unit();
    const seen = disks.map(async ({ file, failsAt: _, ...disk }): Promise<UnitDisk> => ({
      ...disk,
      bytes: fs.statSync(file).size,
      holds: await holdsOf(file),
    }));
    return { ...facts, disks: await Promise.all(seen), clock: Date.now() };
  }

  halfMade(): Promise<ReadonlyMap<string, string>> {
    return Promise.resolve(knownOf(this.unit().disks.map((d) => [d.id, halfMadeBy(d.file)])));
  }

  begin(order: Order, phase: (name: string) => void): Promise<UnitDisksBegun> {
    const { disks, work } = this.unit();
    const fileOf = new Map(disks.map((d) => [d.id, d]));
    fs.rmSync(work, { recursive: true, force: true });
    fs.mkdirSync(work, { mode: 0o700 });
    // what was begun before, or was there before, is nothing to start from
    for (const { disk } of order.layout) {
      const { file } = fileOf.get(disk)!;
      emptied(file);
      markHalfMade(file, order.taskId);
    }
    const staged = new Map<string, string>();
    const mountOf = new Map(order.system.volumes.map((v) => [v.device, v.mount]));
    const { system, asItself } = order;
    return Promise.resolve({
      folderOf(device) {
        if (!mountOf.has(device)) return Promise.resolve(undefined);
        const folder = path.join(work, encodeURIComponent(device));
        fs.mkdirSync(folder, { mode: 0o755 });
        staged.set(device, folder);
        return Promise.resolve(folder);
      },
      async finish() {
        for (const [device, folder] of staged) if (mountOf.get(device) === '/') makePlaces(folder);
        for (const layout of order.layout) {
          const { file, failsAt } = fileOf.get(layout.disk)!;
          const bytes = layout.partitions.reduce((most, p) => Math.max(most, p.start + p.bytes), 0);
          if (failsAt !== null && bytes > failsAt)
            throw new SourceError('REBUILD_FAILED', `the disk ${layout.disk} failed while it was written (input/output error)`);
          await writeDisk({ system, layout, file, staged, asItself, phase });
          synced(file);
        }
        for (const { disk } of order.layout) clearHalfMade(fileOf.get(disk)!.file);
        fs.rmSync(work, { recursive: true, force: true });
      },
      giveUp() {
        for (const { disk } of order.layout) emptied(fileOf.get(disk)!.file);
        fs.rmSync(work, { recursive: true, force: true });
        return Promise.resolve();
      },
    });
  }
}

/** A file of the same size that holds nothing. */
function emptied(file: string): void {
  const { size } = fs.statSync(file);
  fs.truncateSync(file, 0);
  fs.truncateSync(file, size);
}

function synced(file: string): void {
  const fd = fs.openSync(file, 'r+');
  fs.fsyncSync(fd);
  fs.closeSync(fd);
}
