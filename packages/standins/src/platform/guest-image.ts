import { execFile } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import fs from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { promisify } from 'node:util';

const run = promisify(execFile);

/** A file inside a machine. */
export interface GuestFile {
  /** Absolute, `/` between folders. */
  readonly path: string;
  readonly content: Buffer;
}

const sector = 512;
const partitionStart = 1 << 20;
const efiBytes = 40 << 20;
const efiType = 'C12A7328-F81F-11D2-BA4B-00A0C93EC93B';
const linuxType = '0FC63DAF-8483-4772-8E79-3D69D8477DE4';
/** Of the second table at the end of a GPT disk. */
const tailBytes = 1 << 20;

/** Where the file system of a disk begins: behind the EFI partition where the machine starts from it. */
export function fileSystemStart(startsMachine: boolean): number {
  return startsMachine ? partitionStart + efiBytes : partitionStart;
}

async function withFolder<T>(use: (folder: string) => Promise<T>): Promise<T> {
  const folder = fs.mkdtempSync(path.join(os.tmpdir(), 'guest-'));
  try {
    return await use(folder);
  } finally {
    fs.rmSync(folder, { recursive: true, force: true });
  }
}

/**
 * Makes the sparse image of a disk with an ext4 file system holding `files`, behind a GPT; one that `startsMachine` has an EFI partition too. Everything in user space.
 */
export async function makeImage(
  image: string,
  size: number,
  startsMachine: boolean,
  label: string,
  files: readonly GuestFile[],
): Promise<void> {
  await withFolder(async (folder) => {
    const root = path.join(folder, 'root');
    fs.mkdirSync(root);
    for (const file of files) {
      const at = path.join(root, file.path);
      fs.mkdirSync(path.dirname(at), { recursive: true });
      fs.writeFileSync(at, file.content);
    }
    fs.writeFileSync(image, '');
    fs.truncateSync(image, size);
    const start = fileSystemStart(startsMachine);
    const bytes = size - tailBytes - start;
    const efi = `start=${partitionStart / sector}, size=${efiBytes / sector}, type=${efiType}, name="EFI"\n`;
    const table = path.join(folder, 'table');
    fs.writeFileSync(
      table,
      `label: gpt\nlabel-id: ${randomUUID()}\n${startsMachine ? efi : ''}start=${start / sector}, size=${bytes / sector}, type=${linuxType}, name="${label}"\n`,
    );
    await run('sh', ['-c', 'sfdisk --quiet --no-reread --no-tell-kernel "$1" < "$2"', 'sh', image, table]);
    if (startsMachine) {
      await run('mkfs.vfat', ['--offset', String(partitionStart / sector), '-F', '16', '-n', 'EFI', image, String(efiBytes / 1024)]);
      const loader = path.join(folder, 'boot.efi');
      fs.writeFileSync(loader, `made-up boot loader of ${label}\n`);
      const at = `${image}@@${partitionStart}`;
      await run('mmd', ['-i', at, '::/EFI', '::/EFI/BOOT']);
      await run('mcopy', ['-i', at, loader, '::/EFI/BOOT/BOOTX64.EFI']);
    }
    const features = ['-q', '-F', '-m', '0', '-L', label.slice(0, 16), '-J', 'size=4', '-N', '4096'];
    await run('mkfs.ext4', [...features, '-E', `offset=${start},lazy_itable_init=1`, '-d', root, image, `${Math.floor(bytes / 1024)}k`]);
  });
}

/** Folders above the files that the file system does not have, outer ones first: making one that is there would leave it unsound. */
async function missingFolders(at: string, files: readonly GuestFile[]): Promise<string[]> {
  const parents = files.flatMap((file) => {
    const parts = file.path.split('/').slice(1, -1);
    return parts.map((_, depth) => `/${parts.slice(0, depth + 1).join('/')}`);
  });
  const missing: string[] = [];
  for (const folder of new Set(parents)) {
    const { stdout } = await run('debugfs', ['-R', `stat ${folder}`, at]);
    if (!stdout.includes('Inode:')) missing.push(folder);
  }
  return missing;
}

/** Writes files into the ext4 file system of an image, as the machine would. */
export async function writeInside(image: string, startsMachine: boolean, files: readonly GuestFile[]): Promise<void> {
  await withFolder(async (folder) => {
    const at = `${image}?offset=${fileSystemStart(startsMachine)}`;
    const script = path.join(folder, 'script');
    const lines: string[] = [];
    for (const missing of await missingFolders(at, files)) lines.push(`mkdir ${missing}`);
    for (const [i, file] of files.entries()) {
      const from = path.join(folder, String(i));
      fs.writeFileSync(from, file.content);
      lines.push(`rm ${file.path}`, `write ${from} ${file.path}`);
    }
    fs.writeFileSync(script, `${lines.join('\n')}\n`);
    await run('debugfs', ['-w', '-f', script, at]);
  });
}
