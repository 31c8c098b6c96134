import { createHash, randomUUID } from 'node:crypto';
import fs from 'node:fs';
import path from 'node:path';
import { setTimeout as pause } from 'node:timers/promises';
import { CloudError } from './cloud-error';
import type { CloudSwitches } from './description';
import { readQcow2 } from './qcow2-reader';
import type { Volumes } from './volumes';

export interface Import {
  readonly id: string;
  readonly volume: string;
  state: 'working' | 'done' | 'failed';
  /** Bytes written on the volume. */
  done: number;
  why: string;
}

const stagedName = /^[\w.-]{1,120}$/;

/** Objects that are staged, and the jobs that make them volumes. What was staged outlives the cloud's process; jobs do not. */
export class Imports {
  private readonly jobs = new Map<string, Import>();
  /** Bytes that were staged so far. */
  staged = 0;

  constructor(
    private readonly folder: string,
    private readonly volumes: Volumes,
    private readonly switches: () => CloudSwitches,
  ) {
    fs.mkdirSync(folder, { recursive: true });
  }

  private fileOf(name: string): string {
    if (!stagedName.test(name)) throw new CloudError('INVALID', 'no object can be staged under this name');
    return path.join(this.folder, name);
  }

  names(): string[] {
    return fs.readdirSync(this.folder);
  }

  /** Takes in a piece of an object at its place. */
  put(name: string, offset: number, data: Buffer): void {
    if (!Number.isSafeInteger(offset) || offset < 0) throw new CloudError('INVALID', 'the place of a piece is a number of bytes');
    const fd = fs.openSync(this.fileOf(name), fs.constants.O_RDWR | fs.constants.O_CREAT);
    try {
      fs.writeSync(fd, data, 0, data.length, offset);
    } finally {
      fs.closeSync(fd);
    }
    this.staged += data.length;
  }

  drop(name: string): void {
    fs.rmSync(this.fileOf(name), { force: true });
  }

  job(id: string): Import {
    const found = this.jobs.get(id);
    if (!found) throw new CloudError('NOT_FOUND', 'there is no such import');
    return found;
  }

  /** Begins to write what an image holds over what a volume holds, which no instance may have meanwhile. */
  begin(name: string, sha256: string, volumeId: string): Import {
    const volume = this.volumes.one(volumeId);
    if (volume.instance !== null) throw new CloudError('IN_USE', 'an instance has the volume');
    const file = this.fileOf(name);
    if (!fs.existsSync(file)) throw new CloudError('NOT_FOUND', 'nothing is staged under this name');
    const job: Import = { id: `j-${randomUUID().slice(0, 8)}`, volume: volumeId, state: 'working', done: 0, why: '' };
    this.jobs.set(job.id, job);
    void this.work(job, file, sha256).then(
      () => {
        job.state = 'done';
      },
      (error: unknown) => {
        job.state = 'failed';
        job.why = error instanceof Error ? error.message : String(error);
      },
    );
    return job;
  }

  private async work(job: Import, file: string, sha256: string): Promise<void> {
    if (this.switches().importFails) throw new CloudError('DOWN', 'the import service is out of order');
    const sum = createHash('sha256');
    for await (const part of fs.createReadStream(file)) sum.update(part as Buffer);
    if (sum.digest('hex') !== sha256) throw new CloudError('INVALID', 'the staged object is not the one that was announced');
    const disk = this.volumes.disk(job.volume);
    const fd = fs.openSync(file, 'r');
    try {
      const image = readQcow2(fd);
      if (image.size !== disk.size) throw new CloudError('INVALID', 'the image is of another size than the volume');
      for (const { offset, data } of image.clusters()) {
        if (this.switches().importWrong && job.done === 0) data[0]! ^= 1;
        disk.write(offset, data);
        job.done += data.length;
        const rate = this.switches().importRate;
        if (rate !== null) await pause((data.length / rate) * 1000);
      }
    } finally {
      fs.closeSync(fd);
    }
  }
}
