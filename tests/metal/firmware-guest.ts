import { spawn, type ChildProcess } from 'node:child_process';
import fs from 'node:fs';

/** A disk of a machine under QEMU. */
export interface GuestDisk {
  readonly file: string;
  readonly serial: string;
}

const firmware = '/usr/share/OVMF/OVMF_CODE_4M.fd';
const variables = '/usr/share/OVMF/OVMF_VARS_4M.fd';

/** A machine in software that starts by UEFI: from the first of its disks, where something stands there, else from the medium. */
export class FirmwareGuest {
  console = '';
  private readonly process: ChildProcess;
  readonly ended: Promise<unknown>;

  constructor(folder: string, medium: string, disks: readonly GuestDisk[]) {
    fs.copyFileSync(variables, `${folder}/variables.fd`);
    const drives = disks.flatMap(({ file, serial }, i) => [
      ...['-drive', `if=none,id=d${i},file=${file},format=raw`],
      ...['-device', `virtio-blk-pci,drive=d${i},serial=${serial}${i === 0 ? ',bootindex=1' : ''}`],
    ]);
    this.process = spawn('qemu-system-x86_64', [
      ...['-accel', 'tcg', '-cpu', 'qemu64', '-m', '512', '-M', 'pc', '-nographic', '-monitor', 'none', '-serial', 'stdio'],
      ...['-drive', `if=pflash,format=raw,readonly=on,file=${firmware}`, '-drive', `if=pflash,format=raw,file=${folder}/variables.fd`],
      ...drives,
      ...['-drive', `if=none,id=medium,media=cdrom,file=${medium}`, '-device', 'ide-cd,drive=medium,bootindex=9'],
      ...['-netdev', 'user,id=net', '-device', 'virtio-net-pci,netdev=net'],
    ]);
    for (const stream of [this.process.stdout!, this.process.stderr!])
      stream.on('data', (data: Buffer) => (this.console += data.toString('latin1')));
    this.ended = new Promise((resolve) => this.process.once('exit', resolve));
  }

  /** Waits until the console says so. */
  async says(what: RegExp, seconds = 240): Promise<void> {
    for (const until = Date.now() + seconds * 1000; !what.test(this.console); await new Promise((resume) => setTimeout(resume, 100)))
      if (Date.now() > until || this.process.exitCode !== null)
        throw new Error(`the machine never said ${String(what)}:\n${this.console.slice(-3000)}`);
  }

  /** As a loss of power does. */
  async off(): Promise<void> {
    this.process.kill('SIGKILL');
    await this.ended;
  }
}
