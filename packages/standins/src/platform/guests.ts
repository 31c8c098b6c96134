import { execFile } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import fs from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { promisify } from 'node:util';
import { gunzipSync } from 'node:zlib';
import { blockBytes, type BlockDisk } from './block-disk';
import type { MachineDescription } from './description';
import { makeImage, writeInside, type GuestFile } from './guest-image';
import type { Machine, Platform } from './platform';
import { visitData } from './sparse-file';

const run = promisify(execFile);

/** Files by the label of the disk they are on. */
export type GuestFiles = Readonly<Record<string, readonly GuestFile[]>>;

/** Whole disks by their label, packed by gzip. */
export type GuestImages = Readonly<Record<string, Buffer>>;

/** Makes a machine whose disks hold file systems with these files, or are these images; it starts from its first disk. */
export async function buildMachine(
  platform: Platform,
  description: MachineDescription,
  files: GuestFiles,
  images: GuestImages = {},
): Promise<Machine> {
  const machine = platform.create(description);
  for (const [i, disk] of machine.disks.entries()) {
    const image = `${platform.fileOf(machine.id, disk.id)}.new`;
    const packed = images[disk.label];
    if (packed) await unpackImage(packed, image);
    else await makeImage(image, disk.size, i === 0, disk.label, files[disk.label] ?? []);
    platform.fill(machine.id, disk.id, image);
  }
  return machine;
}

/** Writes an image that was packed, its zeros as holes. */
async function unpackImage(packed: Buffer, image: string): Promise<void> {
  const whole = `${image}.whole`;
  fs.writeFileSync(whole, gunzipSync(packed));
  await run('cp', ['--sparse=always', whole, image]);
  fs.rmSync(whole);
}

/** Lets a machine change one of its disks: what `change` does to a copy of it is written block by block, so that it is tracked. */
export async function changeDisk(
  platform: Platform,
  machine: Machine,
  diskId: string,
  change: (image: string) => Promise<unknown>,
): Promise<void> {
  const { size } = machine.disks.find((d) => d.id === diskId)!;
  const copy = path.join(os.tmpdir(), `guest-${randomUUID()}.raw`);
  try {
    await platform.remoteOf(diskId)?.have(0, size);
    await run('cp', ['--sparse=always', platform.fileOf(machine.id, diskId), copy]);
    await change(copy);
    await writeChanged(copy, platform.diskOf(machine.id, diskId), (offset, data) => platform.write(diskId, offset, data));
  } finally {
    fs.rmSync(copy, { force: true });
  }
}

/** Writes the blocks in which an image differs from a disk. */
export async function writeChanged(
  image: string,
  live: Pick<BlockDisk, 'size' | 'bytes'>,
  write: (offset: number, data: Buffer) => void | Promise<void>,
): Promise<void> {
  const written = fs.openSync(image, 'r');
  try {
    const block = Buffer.alloc(blockBytes);
    const stretches: [number, number][] = [];
    visitData(written, (from, to) => void stretches.push([from, to]));
    for (const [from, to] of stretches)
      for (let offset = Math.floor(from / blockBytes) * blockBytes; offset < to; offset += blockBytes) {
        const now = block.subarray(0, fs.readSync(written, block, 0, Math.min(blockBytes, live.size - offset), offset));
        if (!live.bytes(offset, now.length).equals(now)) await write(offset, now);
      }
  } finally {
    fs.closeSync(written);
  }
}

/** Lets a machine write files on one of its disks. */
export async function letGuestWrite(platform: Platform, name: string, label: string, files: readonly GuestFile[]): Promise<void> {
  const machine = platform.named(name);
  const at = machine.disks.findIndex((d) => d.label === label);
  await changeDisk(platform, machine, machine.disks[at]!.id, (image) => writeInside(image, at === 0, files));
}
