import { readFileSync } from 'node:fs';
import os from 'node:os';
import type { Hardware, HostSample } from '@lithodex/contract';

/** What the kernel has counted since the host started; rates are differences of two of these. */
export interface Counted {
  /** ms. */
  readonly at: number;
  /** Ticks of all processors: of work, and in all. */
  readonly busy: number;
  readonly ticks: number;
  /** Bytes through network cards but the loopback; null where the system does not say. */
  readonly received: number | null;
  readonly sent: number | null;
  /** Bytes of whole disks; null where the system does not say. */
  readonly read: number | null;
  readonly written: number | null;
}

const sectorBytes = 512;
const share = (value: number) => (Number.isFinite(value) ? Math.min(1, Math.max(0, value)) : 0);

/** Lines of a file of the kernel, cut into words; none where it is not there. */
function wordsOf(file: string): string[][] {
  try {
    return readFileSync(file, 'latin1')
      .trim()
      .split('\n')
      .map((line) => line.trim().split(/[\s:]+/));
  } catch {
    return [];
  }
}

const sumOf = (rows: readonly (readonly string[])[], column: number) =>
  rows.length ? rows.reduce((sum, row) => sum + Number(row[column] ?? 0), 0) : null;

/** Bytes through the network (proc(5), /proc/net/dev): everything but the loopback. */
export function networkOf(rows: readonly (readonly string[])[]): Pick<Counted, 'received' | 'sent'> {
  const cards = rows.filter((row) => row.length >= 17 && row[0] !== 'lo' && /^\d+$/.test(row[1] ?? ''));
  return { received: sumOf(cards, 1), sent: sumOf(cards, 9) };
}

/** Bytes of disks (proc(5), /proc/diskstats): whole disks, as what their parts move is counted there too. */
export function disksOf(rows: readonly (readonly string[])[]): Pick<Counted, 'read' | 'written'> {
  const disks = rows.filter(([, , name = '']) => /^([shv]d[a-z]+|xvd[a-z]+|nvme\d+n\d+|mmcblk\d+)$/.test(name));
  const bytes = (sectors: number | null) => (sectors === null ? null : sectors * sectorBytes);
  return { read: bytes(sumOf(disks, 5)), written: bytes(sumOf(disks, 9)) };
}

function count(): Counted {
  const [first = []] = wordsOf('/proc/stat');
  const ticks = first.slice(1, 9).map(Number);
  const all = ticks.reduce((a, b) => a + b, 0);
  const idle = (ticks[3] ?? 0) + (ticks[4] ?? 0);
  return { at: Date.now(), busy: all - idle, ticks: all, ...networkOf(wordsOf('/proc/net/dev')), ...disksOf(wordsOf('/proc/diskstats')) };
}

/** What a host was busy with between two counts; `memory`: bytes in all, and those that are free for use. */
export function toSample(before: Counted, after: Counted, memory: { readonly total: number; readonly available: number }): HostSample {
  const seconds = (after.at - before.at) / 1000;
  const rate = (key: 'received' | 'sent' | 'read' | 'written') => {
    const [from, to] = [before[key], after[key]];
    return from === null || to === null || seconds <= 0 ? null : Math.max(0, (to - from) / seconds);
  };
  return {
    processor: share((after.busy - before.busy) / (after.ticks - before.ticks)),
    memory: share(1 - memory.available / memory.total),
    received: rate('received'),
    sent: rate('sent'),
    read: rate('read'),
    written: rate('written'),
  };
}

let last = count();

/** What the host was busy with since it was asked last. Read from the kernel itself, as starting programs for it costs more than small tasks do. */
export function hostSample(): HostSample {
  const before = last;
  last = count();
  const available = wordsOf('/proc/meminfo').find(([name]) => name === 'MemAvailable')?.[1];
  return toSample(before, last, { total: os.totalmem(), available: available === undefined ? os.freemem() : Number(available) * 1024 });
}

export function hardware(): Hardware {
  const version = os.release().split('.').slice(0, 2).join('.');
  return {
    processors: Math.max(1, os.cpus().length),
    memory: os.totalmem(),
    system: `${os.type()} ${version}, ${os.arch()}`.slice(0, 120),
  };
}
