import type { BodyInput } from '@lithodex/contract';
import { platformRights } from '@lithodex/standins';
import { buildBody, harbourClusters, harbourMachines, harbourStorages, landing, passwordDays, workBody } from './harbour/machines';
import type { Random } from './harbour/random';

export interface PlatformAccess {
  readonly endpoint: string;
  readonly account: string;
  readonly password: string;
}

const dayMs = 86_400_000;

/** Machines that are made, or work, beside each other. */
const atOnce = 3;

/** What the people of Kelmar Harbour do with their virtualization platform. */
export class HarbourPlatform {
  constructor(
    private readonly access: PlatformAccess,
    private readonly random: Random,
  ) {}

  /** Does the same of many machines, some at a time. */
  private async actAll(act: string, bodies: readonly object[]): Promise<void> {
    const waiting = [...bodies];
    const next = async () => {
      for (let body = waiting.shift(); body; body = waiting.shift()) await this.act(act, body);
    };
    await Promise.all(Array.from({ length: atOnce }, next));
  }

  /** How it is connected. */
  get body(): BodyInput<'addPlatform'> {
    const { endpoint, account, password } = this.access;
    return { name: 'Harbour platform', endpoint, opener: { by: 'password', account, password } };
  }

  /** An account of the system inside lamp-control, where no helper is. */
  get lampAccount(): { name: string; password: string } {
    return { name: 'keeper', password: this.access.password };
  }

  private async act(act: string, body: object): Promise<void> {
    const response = await fetch(`${this.access.endpoint}/people/${act}`, { method: 'POST', body: JSON.stringify(body) });
    if (!response.ok) throw new Error(`${act}: ${await response.text()}`);
  }

  /** Makes all machines. `lastMorning`: of the story; the password ends some weeks after it. */
  async build(now: number, lastMorning: number): Promise<void> {
    const { account, password } = this.access;
    const passwordEnds = lastMorning + passwordDays * dayMs;
    const accounts = [{ name: account, password, passwordEnds, certificate: null, rights: platformRights }];
    await this.act('describe', { clusters: harbourClusters, storages: harbourStorages, accounts });
    await this.actAll(
      'build',
      harbourMachines.map((machine) => buildBody(machine, this.random, now)),
    );
    const { name, password: secret } = this.lampAccount;
    await this.act('inside', { name: 'lamp-control', accounts: [{ name, password: secret }] });
  }

  async work(evening: number): Promise<void> {
    await this.actAll(
      'work',
      harbourMachines.filter((m) => m.busy).map((machine) => workBody(machine, this.random, evening)),
    );
  }

  /** A machine lands, one moves, one is given up. */
  async changes(evening: number): Promise<void> {
    await this.act('build', buildBody(landing, this.random, evening));
    await this.act('change', { name: 'gate-02', changes: { host: 'mole-3' } });
    await this.act('remove', { name: 'old-fax' });
  }

  /** In the last night a snapshot fails, and one machine can't be brought to rest. */
  async lastNightFails(): Promise<void> {
    await this.act('switches', { snapshotFails: ['mail-relay'], quiesceFails: ['pilot-db'] });
  }

  async recovers(): Promise<void> {
    await this.act('switches', { snapshotFails: [], quiesceFails: [] });
  }
}
