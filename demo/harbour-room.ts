import fs from 'node:fs';
import type { DateTime } from 'luxon';
import { fillServer, hardwareOf, makeUnit, type MadeServer, type MadeUnit } from '@lithodex/standins';
import type { Acts } from './harbour-database';
import { put } from './harbour/servers';
import { lostStartNight, roomNight } from './harbour/story';

const gigabyte = 1e9;
/** What stands in the machine room as itself: read whole, to be rebuilt on other hardware one day. */
const roomServers: readonly MadeServer[] = [
  { host: 'quay-gate', address: '192.0.2.37/24', disks: [64 * gigabyte, 500 * gigabyte], used: [31.4 * gigabyte, 212 * gigabyte] },
  { host: 'signal-mast', address: '192.0.2.44/24', disks: [64 * gigabyte, 250 * gigabyte], used: [18.2 * gigabyte, 96 * gigabyte] },
];

/** Stands there empty, but for what somebody tried on it once: of other disks than any server, and with a card that wants a driver. */
export const waitingUnit = 'C4-07';
const waiting: MadeUnit = {
  firmware: 'uefi',
  memory: 16 * gigabyte,
  disks: [
    { id: 'K3-91', bytes: 320 * gigabyte, port: 'port 2', first: false },
    { id: 'K3-88', bytes: 120 * gigabyte, port: 'port 1', first: true, label: 'old test system' },
  ],
  cards: ['eno1'],
  undriven: ['enp3s0'],
};

/** The machine room of the story: two servers, of which one has lost what it starts with. */
export class HarbourRoom {
  constructor(
    private readonly state: string,
    private readonly acts: Pick<Acts, 'call'>,
  ) {}

  private folderOf(host: string): string {
    return `${this.state}/servers/${host}`;
  }

  /** Makes the servers, and tells the mover beside the server what their hardware is. */
  build(first: number): void {
    fs.mkdirSync(`${this.state}/room`, { recursive: true });
    const hardware: Record<string, string> = {};
    for (const server of roomServers) {
      const file = `${this.state}/room/${server.host}.json`;
      fillServer(this.folderOf(server.host), server, first);
      fs.writeFileSync(file, JSON.stringify(hardwareOf(server), null, 1));
      hardware[this.folderOf(server.host)] = file;
    }
    fs.writeFileSync(`${this.state}/mover.json`, JSON.stringify({ hardware }));
    makeUnit(`${this.state}/units/${waitingUnit}`, waiting);
  }

  /** Somebody starts the unit from the recovery medium, and gives it the token that its code was worth. */
  letIn(token: string): void {
    fs.writeFileSync(`${this.state}/units/${waitingUnit}/token`, token, { mode: 0o600 });
  }

  /** A day of work, and what happens on the night after it. */
  async night(night: number, evening: DateTime): Promise<void> {
    if (night < roomNight) return;
    for (const { host } of roomServers)
      put(
        `${this.folderOf(host)}/var/gate/${evening.toISODate()}.log`,
        `barrier north opened and closed ${200 + night} times\n`,
        evening.toMillis(),
      );
    if (night === roomNight)
      for (const { host } of roomServers)
        await this.acts.call('eva.vind', 'addSource', {
          name: host,
          folder: this.folderOf(host),
          location: 'Server room',
          wholeServer: true,
          tags: ['gates'],
        });
    if (night !== lostStartNight) return;
    const boot = `${this.folderOf('signal-mast')}/boot`;
    for (const name of fs.readdirSync(boot)) if (name.startsWith('initrd.img-')) fs.rmSync(`${boot}/${name}`);
  }
}
