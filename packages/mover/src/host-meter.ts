import { readFileSync } from 'node:fs';
import os from 'node:os';
import type { Hardware, HostSample } from '@lithodex/contract';

/** Totals since the host started. */
interface Totals {
  readonly at: number;
  readonly busy: number;
  readonly all: number;
  readonly received: number | null;
  readonly sent: number | null;
  readonly read: number | null;
  readonly written: number | null;
}

const sectorBytes = 512;
const textOf = (file: string): string => {
  try {
    return readFileSync(file, 'utf8');
  } catch {
    return '';
  }
};

/** Bytes over all network cards but the loopback, from the text of /proc/net/dev; null where it says nothing. */
export function networkTotals(text: string): { received: number; sent: number } | null {
  const cards = [...text.matchAll(/^\s*([^:\s]+):\s*(.+)$/gm)]
    .filter(([, name]) => name !== 'lo')
    .map(([, , rest]) => rest!.trim().split(/\s+/).map(Number));
  if (!cards.length) return null;
  const sum = (column: number) => cards.reduce((total, card) => total + (card[column] ?? 0), 0);
  return { received: sum(0), sent: sum(8) };
}

/** Bytes over all whole disks, from the text of /proc/diskstats; null where it names none. */
export function diskTotals(text: string): { read: number; written: number } | null {
  const disks = text
    .split('\n')
    .map((line) => line.trim().split(/\s+/))
    .filter(([, , name]) => /^([shv]d[a-z]+|xvd[a-z]+|nvme\d+n\d+|mmcblk\d+)$/.test(name ?? ''));
  if (!disks.length) return null;
  const sum = (column: number) => disks.reduce((total, disk) => total + Number(disk[column] ?? 0) * sectorBytes, 0);
  return { read: sum(5), written: sum(9) };
}

/** Memory that programs can't have, as a share, from the text of /proc/meminfo or else from the system. */
export function memoryShare(text: string): number {
  const kilobytes = (name: string) => Number(new RegExp(`^${name}:\\s+(\\d+)`, 'm').exec(text)?.[1]);
  const [total, available] = [kilobytes('MemTotal'), kilobytes('MemAvailable')];
  return total > 0 && available >= 0 ? 1 - available / total : 1 - os.freemem() / os.totalmem();
}

function totals(): Totals {
  const times = os.cpus().map((c) => c.times);
  const all = times.reduce((sum, t) => sum + t.user + t.nice + t.sys + t.irq + t.idle, 0);
  const idle = times.reduce((sum, t) => sum + t.idle, 0);
  const network = networkTotals(textOf('/proc/net/dev'));
  const disks = diskTotals(textOf('/proc/diskstats'));
  return {
    at: Date.now(),
    busy: all - idle,
    all,
    received: network?.received ?? null,
    sent: network?.sent ?? null,
    read: disks?.read ?? null,
    written: disks?.written ?? null,
  };
}

/** Says what the host was busy with between one time it is asked and the next. */
export class HostMeter {
  private last = totals();

  hardware(): Hardware {
    return { processors: Math.max(1, os.cpus().length), memory: os.totalmem(), system: `${os.type()} ${os.release()}`.slice(0, 120) };
  }

  sample(): HostSample {
    const [before, now] = [this.last, totals()];
    this.last = now;
    const seconds = Math.max(0.001, (now.at - before.at) / 1000);
    const rate = (key: 'received' | 'sent' | 'read' | 'written') => {
      const [a, b] = [before[key], now[key]];
      return a === null || b === null ? null : Math.max(0, b - a) / seconds;
    };
    const share = (part: number, whole: number) => (whole > 0 ? Math.min(1, Math.max(0, part / whole)) : 0);
    return {
      processor: share(now.busy - before.busy, now.all - before.all),
      memory: share(memoryShare(textOf('/proc/meminfo')), 1),
      received: rate('received'),
      sent: rate('sent'),
      read: rate('read'),
      written: rate('written'),
    };
  }
}
