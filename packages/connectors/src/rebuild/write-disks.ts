import fs from 'node:fs';
import { partitionScript, type DiskLayout, type NewPartition, type TableIdentity } from '@lithodex/core';
import type { ServerSystem, ServerVolume } from '@lithodex/kinds';
import { SourceError } from '../source-error';
import { runProgram } from './run-program';
import type { StagedVolumes } from './staged-tree';

const kibibyte = 1024;
const mebibyte = 1 << 20;
const uuidForm = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i;
const fatIdForm = /^[0-9a-f]{4}-?[0-9a-f]{4}$/i;

/** How the disks of a rebuilt server are written. */
export interface DiskWriting {
  readonly system: Pick<ServerSystem, 'volumes' | 'disks'>;
  readonly layout: DiskLayout;
  /** The disk, as a file of its size. */
  readonly file: string;
  /** Files of the volumes, by device. */
  readonly staged: StagedVolumes;
  /** Identities of table, partitions and file systems stay what they were; a clone gets new ones. */
  readonly asItself: boolean;
  readonly phase: (name: string) => void;
}

/** Makes the partitions of a disk with their file systems, and writes the files of its volumes. What was on it is gone. Throws PROGRAM_MISSING, REBUILD_FAILED. */
export async function writeDisk(writing: DiskWriting): Promise<void> {
  const { system, layout, file, asItself, phase } = writing;
  phase('partitioning');
  await runProgram(
    'sfdisk',
    ['--quiet', '--wipe', 'always', '--wipe-partitions', 'always', file],
    partitionScript(layout, system, identityOf(system, layout, asItself)),
  );
  for (const partition of layout.partitions) {
    if (!('volume' in partition.for)) continue;
    const { volume: device } = partition.for;
    const volume = system.volumes.find((v) => v.device === device);
    if (!volume) throw new SourceError('REBUILD_FAILED', `the point knows no volume ${device}`);
    phase(volume.fileSystem === 'swap' ? 'making swap' : `writing ${volume.mount}`);
    await writeVolume(writing, partition, volume);
  }
}

/** How the program that makes a file system is told its identity and label: those of before, or a new identity for a clone. */
export function namesOf({ fileSystem, uuid, label }: ServerVolume, asItself: boolean): string[] {
  if (fileSystem !== 'vfat') return [...(asItself && uuidForm.test(uuid) ? ['-U', uuid] : []), ...(label ? ['-L', label] : [])];
  const id = asItself && fatIdForm.test(uuid) ? ['-i', uuid.replace('-', '')] : [];
  return [...id, ...(label ? ['-n', label.slice(0, 11)] : [])];
}

/** The identities that a disk of a layout gets. */
export function identityOf({ disks }: Pick<ServerSystem, 'disks'>, { partitions }: DiskLayout, asItself: boolean): TableIdentity {
  if (!asItself) return { tableId: '', partitionOf: () => undefined };
  const old = new Map(disks.flatMap((d) => d.partitions.map((p) => [partitionName(d.name, p.no), { disk: d, partition: p }] as const)));
  const first = partitions.flatMap((p) => ('volume' in p.for ? (old.get(p.for.volume) ?? []) : []))[0];
  return { tableId: first?.disk.tableId ?? '', partitionOf: (volume) => old.get(volume)?.partition };
}

/** Name that a kernel gives a partition of a disk. */
export const partitionName = (disk: string, no: number) => (/\d$/.test(disk) ? `${disk}p${no}` : `${disk}${no}`);

async function writeVolume({ file, staged, asItself }: DiskWriting, { start, bytes }: NewPartition, volume: ServerVolume): Promise<void> {
  const { fileSystem } = volume;
  const named = namesOf(volume, asItself);
  const folder = staged.get(volume.device);
  switch (fileSystem) {
    case 'ext2':
    case 'ext3':
    case 'ext4': {
      const content = folder === undefined ? [] : ['-d', folder];
      await runProgram('mke2fs', [
        '-q',
        '-F',
        '-t',
        fileSystem,
        ...named,
        ...content,
        '-E',
        `offset=${start}`,
        file,
        `${bytes / kibibyte}k`,
      ]);
      return;
    }
    case 'vfat': {
      const names = folder === undefined ? [] : fs.readdirSync(folder).map((name) => `${folder}/${name}`);
      await makeApart(file, start, bytes, async (own) => {
        await runProgram('mkfs.vfat', [...named, own]);
        if (names.length) await runProgram('mcopy', ['-s', '-m', '-Q', '-i', own, ...names, '::/']);
      });
      return;
    }
    case 'swap': {
      // all that it says stands at its beginning
      await makeApart(file, start, bytes, (own) => runProgram('mkswap', ['--quiet', ...named, own]), ['count=1']);
      return;
    }
    default:
      throw new SourceError(
        'REBUILD_FAILED',
        `${volume.mount || volume.device} is ${fileSystem || 'of no known file system'}, which can not be made anew`,
      );
  }
}

/** Of programs that know no place on a disk, or reckon with all of it: makes a volume in a file of its own, and puts it where it belongs. */
async function makeApart(
  file: string,
  start: number,
  bytes: number,
  make: (own: string) => Promise<unknown>,
  only: readonly string[] = [],
): Promise<void> {
  const own = `${file}.volume`;
  try {
    fs.writeFileSync(own, '', { mode: 0o600 });
    fs.truncateSync(own, bytes);
    await make(own);
    await runProgram('fallocate', ['--punch-hole', '--offset', String(start), '--length', String(bytes), file]);
    const places = ['bs=1M', `seek=${start / mebibyte}`, 'conv=sparse,notrunc', ...only];
    await runProgram('dd', [`if=${own}`, `of=${file}`, ...places, 'status=none']);
  } finally {
    fs.rmSync(own, { force: true });
  }
}
