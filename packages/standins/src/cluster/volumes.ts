import { spawnSync } from 'node:child_process';
import fs from 'node:fs';

/** The storage of a cluster: volumes and snapshots of them, as folders or as files of blocks. */
export class ClusterVolumes {
  constructor(private readonly folder: string) {
    for (const kind of ['volumes', 'snapshots']) fs.mkdirSync(`${folder}/${kind}`, { recursive: true });
  }

  /** Where a volume lies: a folder, or a file. */
  place(handle: string): string {
    return `${this.folder}/volumes/${handle}`;
  }

  make(handle: string, mode: string, bytes: number, from?: string): void {
    const place = this.place(handle);
    if (fs.existsSync(place)) return;
    if (from !== undefined) this.copy(this.snapshot(from), place);
    else if (mode === 'Block') fs.closeSync(fs.openSync(place, 'w'));
    else fs.mkdirSync(place, { mode: 0o755 });
    if (mode === 'Block') fs.truncateSync(place, Math.max(bytes, fs.statSync(place).size));
  }

  remove(handle: string): void {
    fs.rmSync(this.place(handle), { recursive: true, force: true });
  }

  /** Takes a snapshot as of now. */
  freeze(handle: string, snapshot: string): void {
    this.copy(this.place(handle), this.snapshot(snapshot));
  }

  letGo(snapshot: string): void {
    fs.rmSync(this.snapshot(snapshot), { recursive: true, force: true });
  }

  snapshots(): string[] {
    return fs.readdirSync(`${this.folder}/snapshots`);
  }

  private snapshot(handle: string): string {
    return `${this.folder}/snapshots/${handle}`;
  }

  private copy(from: string, to: string): void {
    const { status, stderr } = spawnSync('cp', ['-a', '--reflink=auto', '--sparse=always', from, to]);
    if (status !== 0) throw new Error(stderr.toString());
  }
}
