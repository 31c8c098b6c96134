import { execFile, spawn, type ChildProcess } from 'node:child_process';
import fs from 'node:fs';
import path from 'node:path';

/** What the first process of the guest is started by: the project where it is, devices of its own, loopback alone. */
const begin = (root: string, project: string) => `
mount --make-rprivate /
mount -t proc proc ${root}/proc
mount -t sysfs sys ${root}/sys
mount -t cgroup2 cgroup ${root}/sys/fs/cgroup
mount -t tmpfs -o mode=755 run ${root}/run
mount -t tmpfs -o mode=755 dev ${root}/dev
for d in null zero full random urandom tty; do touch ${root}/dev/$d; mount --bind /dev/$d ${root}/dev/$d; done
mkdir ${root}/dev/pts ${root}/dev/shm
mount -t devpts -o newinstance,ptmxmode=0666 pts ${root}/dev/pts
ln -s pts/ptmx ${root}/dev/ptmx
ln -s /proc/self/fd ${root}/dev/fd
mount -t tmpfs shm ${root}/dev/shm
mkdir -p ${root}${project}
mount --bind ${project} ${root}${project}
ip link set lo up
hostname harbour-guest
exec chroot ${root} env -i container=other PATH=/usr/sbin:/usr/bin:/sbin:/bin /lib/systemd/systemd --log-target=console --log-level=err --show-status=no --unit=multi-user.target`;

/** This machine once more, with systemd as its first process: what changes there stays there. Needs root. */
export class SystemGuest {
  private constructor(
    private readonly folder: string,
    private readonly process: ChildProcess,
    private readonly first: number,
  ) {}

  /** `folder`: empty, on a file system that overlays may lie on. */
  static async start(folder: string, project = process.cwd()): Promise<SystemGuest> {
    const [root, upper, work] = ['root', 'upper', 'work'].map((name) => path.join(folder, name)) as [string, string, string];
    for (const part of [root, upper, work]) fs.mkdirSync(part, { recursive: true });
    await output('mount', ['-t', 'overlay', 'overlay', '-o', `lowerdir=/,upperdir=${upper},workdir=${work}`, root]);
    const group = fs.existsSync('/sys/fs/cgroup/cgroup.procs') ? '/sys/fs/cgroup/harbour-guest' : '/sys/fs/cgroup/unified/harbour-guest';
    fs.mkdirSync(group, { recursive: true });
    const script = `echo $$ > ${group}/cgroup.procs; exec unshare --fork --pid --mount --uts --ipc --cgroup --net bash -c '${begin(root, project)}'`;
    const child = spawn('bash', ['-c', script], { stdio: 'ignore' });
    for (const until = Date.now() + 60_000; Date.now() < until; await new Promise((resume) => setTimeout(resume, 200))) {
      const first = firstOf(child.pid!);
      if (first === undefined) continue;
      const guest = new SystemGuest(folder, child, first);
      const state = await guest.run('systemctl is-system-running || true').catch(() => '');
      if (/running|degraded/.test(state)) return guest;
    }
    throw new Error('systemd did not start in the guest');
  }

  /** Runs a script there. Gives what it said; throws with it when it failed. */
  run(script: string): Promise<string> {
    const clean = ['env', '-i', 'PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin', 'HOME=/root', 'TERM=dumb'];
    return output('nsenter', ['-t', String(this.first), '-a', '-r', '-w', ...clean, 'bash', '-c', `exec 2>&1; ${script}`]);
  }

  async stop(): Promise<void> {
    const gone = new Promise((resume) => this.process.once('exit', resume));
    process.kill(this.first, 'SIGKILL');
    await gone;
    await output('umount', [path.join(this.folder, 'root')]);
  }
}

/** The first process of the guest, once it is systemd. */
function firstOf(outer: number): number | undefined {
  const children = fs.readFileSync(`/proc/${outer}/task/${outer}/children`, 'utf8').trim().split(' ');
  return children.map(Number).find((pid) => pid && fs.readFileSync(`/proc/${pid}/cmdline`, 'latin1').startsWith('/lib/systemd/systemd'));
}

function output(command: string, args: readonly string[]): Promise<string> {
  return new Promise((resolve, reject) => {
    execFile(command, args, { encoding: 'utf8', maxBuffer: 1 << 26 }, (error, stdout, stderr) => {
      if (error) reject(new Error(`${args.at(-1)?.slice(0, 200)}: ${stdout}${stderr}`));
      else resolve(stdout);
    });
  });
}
