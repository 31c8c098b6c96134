import { execFileSync, spawn, type ChildProcess } from 'node:child_process';
import fs from 'node:fs';
import net from 'node:net';
import os from 'node:os';
import path from 'node:path';

export interface SmallLinux {
  readonly kernel: string;
  readonly initramfs: string;
}

/** A kernel of Debian and a busybox that runs `script` with these modules. */
export function smallLinux(folder: string, script: string, modules: readonly string[]): SmallLinux {
  const cache = path.join(os.tmpdir(), 'lithodex-guest-kernel');
  const shell = (text: string) =>
    execFileSync('sh', ['-euc', text], { cwd: folder, encoding: 'utf8', stdio: ['ignore', 'pipe', 'inherit'] });
  if (!fs.existsSync(`${cache}/kernel/boot`)) {
    fs.mkdirSync(cache, { recursive: true });
    shell(`cd ${cache}
      apt-get download -q linux-image-cloud-amd64 >/dev/null
      name=$(dpkg-deb -f linux-image-cloud-amd64_*.deb Depends | grep -o 'linux-image-[0-9][^ ,]*' | head -1)
      apt-get download -q "$name" >/dev/null
      rm -rf unpacked && mkdir unpacked && dpkg-deb -x "$name"_*.deb unpacked
      depmod -b unpacked "\${name#linux-image-}"
      mv unpacked kernel`);
  }
  const kernel = path.join(
    cache,
    'kernel/boot',
    fs.readdirSync(`${cache}/kernel/boot`).find((f) => f.startsWith('vmlinuz'))!,
  );
  const version = path.basename(kernel).replace('vmlinuz-', '');
  const root = `${folder}/initramfs.d`;
  for (const below of ['bin', 'dev', 'proc', 'sys', 'mnt', 'tmp', 'modules']) fs.mkdirSync(`${root}/${below}`, { recursive: true });
  fs.copyFileSync('/bin/busybox', `${root}/bin/busybox`);
  fs.chmodSync(`${root}/bin/busybox`, 0o755);
  const needed = modules.flatMap((name) =>
    shell(`modprobe -d ${cache}/kernel -S ${version} --show-depends ${name}`)
      .split('\n')
      .filter((line) => line.startsWith('insmod '))
      .map((line) => line.split(' ')[1]!),
  );
  const files = [...new Set(needed)];
  for (const file of files) fs.copyFileSync(file, `${root}/modules/${path.basename(file)}`);
  const load = files.map((file) => `insmod /modules/${path.basename(file)}`).join('\n');
  const init = `#!/bin/busybox sh
/bin/busybox mount -t proc proc /proc
/bin/busybox --install -s /bin
export PATH=/bin
mount -t sysfs sys /sys
mount -t devtmpfs dev /dev
${load}
sleep 1
${script}
poweroff -f
`;
  fs.writeFileSync(`${root}/init`, init, { mode: 0o755 });
  shell('cd initramfs.d && find . | cpio -o -H newc --quiet | gzip -1 > ../initramfs');
  return { kernel, initramfs: `${folder}/initramfs` };
}

/** A machine under QEMU in software: its console, and what is asked of its monitor (QMP). */
export class SmallGuest {
  console = '';
  readonly events: string[] = [];
  private readonly process: ChildProcess;
  private readonly answers: ((answer: { return?: unknown; error?: { desc: string } }) => void)[] = [];
  private monitor: net.Socket | undefined;
  readonly ended: Promise<number | null>;

  constructor(
    folder: string,
    { kernel, initramfs }: SmallLinux,
    options: readonly string[],
    private readonly socket = `${folder}/monitor`,
  ) {
    fs.rmSync(socket, { force: true });
    const fixed = ['-accel', 'tcg', '-cpu', 'qemu64', '-m', '384', '-display', 'none', '-serial', 'stdio', '-no-reboot', '-net', 'none'];
    const boot = ['-kernel', kernel, '-initrd', initramfs, '-append', 'console=ttyS0 quiet panic=-1'];
    this.process = spawn('qemu-system-x86_64', [...fixed, ...boot, '-qmp', `unix:${socket},server=on,wait=off`, ...options]);
    this.process.stdout!.on('data', (data: Buffer) => (this.console += data.toString('latin1')));
    this.process.stderr!.on('data', (data: Buffer) => (this.console += data.toString('latin1')));
    this.ended = new Promise((resolve) => this.process.on('exit', resolve));
  }

  /** Waits until the console says so, and gives what it said. */
  async says(what: RegExp, seconds = 180): Promise<RegExpExecArray> {
    for (const until = Date.now() + seconds * 1000; ;) {
      const found = what.exec(this.console);
      if (found) return found;
      if (Date.now() > until || this.process.exitCode !== null)
        throw new Error(`the guest never said ${String(what)}:\n${this.console.slice(-2000)}`);
      await new Promise((resume) => setTimeout(resume, 50));
    }
  }

  type(line: string): void {
    this.process.stdin!.write(`${line}\n`);
  }

  private async connected(): Promise<net.Socket> {
    if (this.monitor) return this.monitor;
    const monitor = net.connect(this.socket);
    this.monitor = monitor;
    let text = '';
    monitor.on('data', (data: Buffer) => {
      text += data.toString();
      for (let end = text.indexOf('\n'); end >= 0; end = text.indexOf('\n')) {
        const said = JSON.parse(text.slice(0, end)) as { event?: string; QMP?: unknown; return?: unknown; error?: { desc: string } };
        text = text.slice(end + 1);
        if (said.event) this.events.push(said.event);
        else if (!said.QMP) this.answers.shift()?.(said);
      }
    });
    await this.ask('qmp_capabilities');
    return monitor;
  }

  async ask(execute: string, more: object = {}): Promise<unknown> {
    const monitor = execute === 'qmp_capabilities' ? this.monitor! : await this.connected();
    const answer = await new Promise<{ return?: unknown; error?: { desc: string } }>((resolve) => {
      this.answers.push(resolve);
      monitor.write(`${JSON.stringify({ execute, arguments: more })}\n`);
    });
    if (answer.error) throw new Error(`${execute}: ${answer.error.desc}`);
    return answer.return;
  }

  async happens(event: string, seconds = 120): Promise<void> {
    for (const until = Date.now() + seconds * 1000; !this.events.includes(event);) {
      if (Date.now() > until) throw new Error(`${event} never came; there were ${this.events.join(', ')}`);
      await new Promise((resume) => setTimeout(resume, 20));
    }
  }

  kill(): void {
    this.process.kill('SIGKILL');
  }
}
