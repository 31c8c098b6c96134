import os from 'node:os';
import si from 'systeminformation';
import type { Hardware, HostSample } from '@lithodex/contract';

/** Rates in bytes a second; null before they were measured twice. */
interface Card {
  readonly iface: string;
  readonly rx_sec: number | null;
  readonly tx_sec: number | null;
}

/** What was measured of a host, as the library tells it. */
export interface Measured {
  /** Per cent. */
  readonly load: number;
  readonly memory: { readonly total: number; readonly available: number };
  readonly cards: readonly Card[];
  readonly disks: { readonly rx_sec: number | null; readonly wx_sec: number | null } | null;
}

const share = (value: number) => (Number.isFinite(value) ? Math.min(1, Math.max(0, value)) : 0);

/** A sample of what was measured: the loopback is no network, and what is not known stays so. */
export function toSample({ load, memory, cards, disks }: Measured): HostSample {
  const outside = cards.filter((c) => c.iface !== 'lo');
  const sum = (key: 'rx_sec' | 'tx_sec') => {
    const known = outside.map((c) => c[key]).filter((v) => v !== null);
    return known.length
      ? Math.max(
          0,
          known.reduce((a, b) => a + b, 0),
        )
      : null;
  };
  const rate = (value: number | null | undefined) => (value === null || value === undefined ? null : Math.max(0, value));
  return {
    processor: share(load / 100),
    memory: share(1 - memory.available / memory.total),
    received: sum('rx_sec'),
    sent: sum('tx_sec'),
    read: rate(disks?.rx_sec),
    written: rate(disks?.wx_sec),
  };
}

/** What the host was busy with since it was asked last. */
export async function hostSample(): Promise<HostSample> {
  const [load, memory, cards, disks] = await Promise.all([si.currentLoad(), si.mem(), si.networkStats('*'), si.fsStats()]);
  return toSample({ load: load.currentLoad, memory, cards, disks });
}

export function hardware(): Hardware {
  const version = os.release().split('.').slice(0, 2).join('.');
  return {
    processors: Math.max(1, os.cpus().length),
    memory: os.totalmem(),
    system: `${os.type()} ${version}, ${os.arch()}`.slice(0, 120),
  };
}
