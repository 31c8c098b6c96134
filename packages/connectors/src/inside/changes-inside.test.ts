import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { gunzipSync } from 'node:zlib';
import { DiskFolder, Store } from '@lithodex/engine';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { pointOfDisks } from '../../../../tests/support/machine-point';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import type { OpenPoint } from '../connector';
import { closePools } from '../pools';
import { changesInside, disksIn } from './changes-inside';

let base: string;
let store: Store;
let image: string;
let points = 0;

beforeAll(async () => {
  base = temporaryFolder('changes-inside');
  fs.mkdirSync(`${base}/store`);
  store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
  for (const folder of ['logs', 'plans/old']) fs.mkdirSync(`${base}/tree/${folder}`, { recursive: true });
  for (const name of ['logs/gate', 'logs/mole', 'plans/roster', 'plans/old/first']) fs.writeFileSync(`${base}/tree/${name}`, `${name}\n`);
  image = `${base}/disk.img`;
  fs.writeFileSync(image, '');
  fs.truncateSync(image, 32 << 20);
  execFileSync('mkfs.ext4', ['-q', '-F', '-d', `${base}/tree`, image], { stdio: 'pipe' });
});
afterAll(async () => {
  await closePools();
  fs.rmSync(base, { recursive: true, force: true });
});

const point = (disks: Readonly<Record<string, Buffer>>) => pointOfDisks(store, `p${++points}`, disks);
const now = () => point({ system: fs.readFileSync(image) });
const guest = (...commands: string[]) => {
  for (const command of commands) execFileSync('debugfs', ['-w', '-R', command, image], { stdio: 'pipe' });
};

async function told(before: OpenPoint | undefined, after: OpenPoint): Promise<string[]> {
  const lines: string[] = [];
  for await (const change of changesInside(before, after))
    lines.push('disk' in change ? `${change.change} ${change.disk}` : `${change.change} ${change.folder}/${change.entry.name}`);
  return lines.sort();
}
const volume = 'disks/system.raw/volume';

describe('what differs inside the disks of two points', () => {
  it('is everything where there is none before, and nothing where the disks are stored alike', async () => {
    const first = await now();
    const all = await told(undefined, first);
    expect(all).toEqual(
      expect.arrayContaining([
        'opened disks/system.raw',
        `added ${volume}/plans/old/first`,
        `added ${volume}/logs`,
        'added disks/system.raw/volume',
      ]),
    );
    expect(all.filter((line) => !/^(added|opened) /.test(line))).toEqual([]);
    expect(await told(first, await now())).toEqual([]);
  });

  it('is what was written, came and went, wherever it lies; what holds it is told as changed', async () => {
    const first = await now();
    fs.writeFileSync(`${base}/new`, 'new\n');
    guest(`write ${base}/new /logs/new`, 'rm /logs/mole', 'rm /plans/old/first', 'rmdir /plans/old', 'sif /plans/roster mtime 20261130');
    const lines = await told(first, await now());
    expect(lines).toEqual(
      expect.arrayContaining([
        `added ${volume}/logs/new`,
        `removed ${volume}/logs/mole`,
        `removed ${volume}/plans/old`,
        `removed ${volume}/plans/old/first`,
        `changed ${volume}/plans/roster`,
      ]),
    );
    expect(lines.filter((line) => line.includes('gate'))).toEqual([]);
  });

  it('says of a volume that is not read any more that nothing is known', async () => {
    const first = await now();
    const lost = fs.readFileSync(image);
    lost.fill(0, 1024, 2048);
    const lines = await told(first, await point({ system: lost }));
    expect(lines).toContain(`unseen ${volume}/logs/gate`);
    expect(lines).toContain(`changed ${volume}`);
    expect(lines.filter((line) => line.startsWith('removed'))).toEqual([]);
  });

  it('closes disks that are gone, and opens those that came', async () => {
    const data = gunzipSync(fs.readFileSync(new URL('../../../volumes/fixtures/ntfs.img.gz', import.meta.url)));
    const both = await point({ system: fs.readFileSync(image), data });
    expect(disksIn(both).sort()).toEqual(['disks/data.raw', 'disks/system.raw']);
    const lines = await told(both, await now());
    expect(lines.filter((line) => !line.startsWith('opened'))).toEqual(['closed disks/data.raw']);
    expect(await told(await now(), both)).toContain('added disks/data.raw/volume/papers/long.log');
  });
});
