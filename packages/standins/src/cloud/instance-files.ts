import { execFile } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import fs from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { promisify } from 'node:util';
import { writeInside, type GuestFile } from '../platform/guest-image';
import { writeChanged } from '../platform/guests';
import type { Cloud } from './cloud';
import { CloudError } from './cloud-error';

const run = promisify(execFile);

/** Lets an instance write files on one of its volumes, told by its label. It starts from its first one. */
export async function letInstanceWrite(cloud: Cloud, name: string, label: string, files: readonly GuestFile[]): Promise<void> {
  const { volumes } = cloud.named(name);
  const at = volumes.findIndex((id) => cloud.volumes.one(id).label === label);
  const id = volumes[at];
  if (id === undefined) throw new CloudError('NOT_FOUND', `${name} has no volume ${label}`);
  const copy = path.join(os.tmpdir(), `instance-${randomUUID()}.raw`);
  try {
    await run('cp', ['--sparse=always', cloud.volumes.fileOf(id), copy]);
    await writeInside(copy, at === 0, files);
    const disk = cloud.volumes.disk(id);
    await writeChanged(copy, disk, (offset, data) => {
      disk.write(offset, data);
    });
  } finally {
    fs.rmSync(copy, { force: true });
  }
}
