import { spawn, spawnSync, type ChildProcess } from 'node:child_process';
import fs from 'node:fs';
import { fillServer, hardwareOf, makeUnit, type MadeServer, type MadeUnit } from '@lithodex/standins';
import { expect } from 'vitest';
import { freePort } from '../../scripts/launcher/mariadb.mjs';
import type { Client, Harness } from './harness';
import { describeTree } from './nasty-tree';

const mebibyte = 1 << 20;
const gate: MadeServer = { host: 'quay-gate', address: '192.0.2.37/24', disks: [10e9, 20e9], used: [100 * mebibyte, 10 * mebibyte] };
/** A unit with disks of other sizes, in another order. */
export const usualUnit: MadeUnit = {
  firmware: 'uefi',
  memory: 16e9,
  disks: [
    { id: 'K3-91', bytes: 900 * mebibyte, port: 'ata 2', first: false },
    { id: 'K3-88', bytes: 9000 * mebibyte, port: 'ata 1', first: true },
  ],
  cards: ['eno1'],
};

interface Part {
  readonly file: string;
  readonly start: number;
}

/** A server that was read whole and is gone, and machines that were started from what stands for the recovery medium. */
export class UnitRoom {
  private readonly running = new Set<ChildProcess>();

  private constructor(
    private readonly h: Harness,
    private readonly admin: Client,
    readonly root: string,
    readonly workloadId: number,
    readonly pointId: string,
  ) {}

  /** Reads a server whole, with a mover that units come to. */
  static async open(h: Harness, admin: Client): Promise<UnitRoom> {
    const root = `${h.folder}/quay-gate`;
    fillServer(root, gate, Date.parse('2026-10-01'));
    fs.writeFileSync(`${root}/srv/gate/odd\nname`, 'kept as it is');
    fs.symlinkSync('/etc/hostname', `${root}/srv/gate/link`);
    fs.linkSync(`${root}/srv/gate/barriers.csv`, `${root}/srv/gate/twin`);
    fs.chownSync(`${root}/srv/gate/barriers.csv`, 1234, 4321);
    fs.chmodSync(`${root}/srv/gate/barriers.csv`, 0o4750);
    fs.writeFileSync(`${root}/var/gate/today`, Buffer.alloc(3 * mebibyte, 'the gate opened. '));
    fs.writeFileSync(`${h.folder}/quay-gate.json`, JSON.stringify(hardwareOf(gate)));
    fs.writeFileSync(`${h.folder}/mover.json`, JSON.stringify({ hardware: { [root]: `${h.folder}/quay-gate.json` } }));
    h.startMover('mover-1', { receive: await freePort() });
    const { targetId } = await h.connect(admin);
    const { workloadId } = await admin.call('addSource', { body: { name: 'quay-gate', folder: root, wholeServer: true } });
    const body = { targetId, keep: { by: 'days' as const, days: 9 } };
    await admin.ended((await admin.call('protectOnce', { id: workloadId, body })).runId);
    const pointId = (await admin.call('readyToRebuild', { id: workloadId })).point!.id;
    return new UnitRoom(h, admin, root, workloadId, pointId);
  }

  /** Its units are off, and known no more. */
  async cleared(): Promise<void> {
    for (const unit of this.running) await this.ended(unit, 'SIGKILL');
    for (const { name } of (await this.admin.call('listUnits')).rows) await this.admin.call('forgetUnit', { id: name });
  }

  async ended(unit: ChildProcess, signal?: NodeJS.Signals): Promise<void> {
    this.running.delete(unit);
    if (unit.exitCode !== null || unit.signalCode !== null) return;
    const gone = new Promise((resume) => unit.once('exit', resume));
    if (signal) unit.kill(signal);
    await gone;
  }

  async invite(): Promise<string> {
    return (await this.admin.call('inviteUnit', { body: {} })).code;
  }

  folderOf(name: string): string {
    return `${this.h.folder}/room/${name}`;
  }

  /** Starts a unit from what stands for the recovery medium. */
  boot(name: string, code: string, room = `${this.folderOf(name)}/unit.json`): ChildProcess {
    const args = ['--server', this.h.base, '--name', name, '--token-file', `${this.folderOf(name)}/token`, '--room', room, '--join', code];
    const unit = spawn(process.execPath, ['dist/node/unit.js', ...args, '--log-level', process.env['LITHODEX_LOG'] ?? 'silent'], {
      stdio: ['ignore', 'inherit', process.env['LITHODEX_LOG'] ? 'inherit' : 'ignore'],
    });
    this.running.add(unit);
    return unit;
  }

  async listed(name: string) {
    return (await this.admin.call('listUnits')).rows.find((u) => u.name === name);
  }

  async reported(name: string): Promise<void> {
    await expect.poll(async () => (await this.listed(name))?.present, { timeout: 30_000, interval: 50 }).toBe(true);
  }

  async unit(name: string, made: MadeUnit = usualUnit): Promise<ChildProcess> {
    makeUnit(this.folderOf(name), made);
    const started = this.boot(name, await this.invite());
    await this.reported(name);
    return started;
  }

  /** The server stands on the disks of a unit, clean, with all its files. */
  expectWhole(name: string): void {
    for (const { id } of usualUnit.disks)
      expect(spawnSync('sfdisk', ['-V', `${this.folderOf(name)}/${id}.img`])).toMatchObject({ status: 0 });
    const system = this.partsOf(name, 'K3-88')[1]!;
    const logs = this.partsOf(name, 'K3-91')[0]!;
    for (const { file, start } of [system, logs])
      expect(spawnSync('e2fsck', ['-fn', `${file}?offset=${start}`], { encoding: 'utf8' }), file).toMatchObject({ status: 0 });
    const into = `${this.h.folder}/dumped-${name}`;
    for (const [part, folder] of [
      [system, ''],
      [logs, '/var/gate'],
    ] as const) {
      fs.mkdirSync(into + folder, { recursive: true });
      inside(part, `rdump / ${into}${folder}`);
    }
    expect(inside(system, 'stat /srv/gate/barriers.csv')).toMatch(/Mode: {2}04750[\s\S]*User: {2}1234 {3}Group: {2}4321[\s\S]*Links: 2/);
    const contents = (tree: string) =>
      describeTree(tree)
        .split('\n')
        .filter((line) => line.includes('|f|') && !/boot\/efi|proc\/|lost\+found/.test(line))
        .map((line) => line.split('|')[0] ?? '');
    expect(contents(into)).toEqual(contents(this.root));
    for (const file of ['etc/fstab', 'srv/gate/odd\nname', 'var/gate/today', 'srv/gate/twin'])
      expect(fs.readFileSync(`${into}/${file}`).equals(fs.readFileSync(`${this.root}/${file}`)), file).toBe(true);
    expect(fs.readlinkSync(`${into}/srv/gate/link`)).toBe('/etc/hostname');
    fs.rmSync(into, { recursive: true });
  }

  private partsOf(name: string, id: string): Part[] {
    const file = `${this.folderOf(name)}/${id}.img`;
    const told = spawnSync('sfdisk', ['--json', file], { encoding: 'utf8' }).stdout;
    const { partitions } = (JSON.parse(told) as { partitiontable: { partitions: { start: number }[] } }).partitiontable;
    return partitions.map((p) => ({ file, start: p.start * 512 }));
  }
}

const inside = ({ file, start }: Part, request: string) =>
  spawnSync('debugfs', ['-R', request, `${file}?offset=${start}`], { encoding: 'utf8' }).stdout;
