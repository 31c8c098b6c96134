import { describe, expect, it } from 'vitest';
import { HostMeter, diskTotals, memoryShare, networkTotals } from './host-meter';

const cards = `Inter-|   Receive                                                |  Transmit
 face |bytes    packets errs drop fifo frame compressed multicast|bytes    packets errs drop fifo colls carrier compressed
    lo: 900 9 0 0 0 0 0 0 900 9 0 0 0 0 0 0
  eth0:1000 10 0 0 0 0 0 0 2000 20 0 0 0 0 0 0
  eth1: 5 1 0 0 0 0 0 0 7 1 0 0 0 0 0 0
`;
const disks = `   8       0 sda 10 0 100 5 20 0 200 6 0 7 8
   8       1 sda1 10 0 100 5 20 0 200 6 0 7 8
 259       0 nvme0n1 1 0 2 0 1 0 4 0 0 0 0
 259       1 nvme0n1p1 1 0 2 0 1 0 4 0 0 0 0
   7       0 loop0 9 0 9 9 9 0 9 9 0 9 9
`;

describe('the meter of a host', () => {
  it('adds up network cards, leaving out the loopback', () => {
    expect(networkTotals(cards)).toEqual({ received: 1005, sent: 2007 });
    expect(networkTotals('')).toBeNull();
  });

  it('adds up whole disks, not their partitions', () => {
    expect(diskTotals(disks)).toEqual({ read: 102 * 512, written: 204 * 512 });
    expect(diskTotals('')).toBeNull();
  });

  it('counts as used what programs can not have', () => {
    expect(memoryShare('MemTotal:       1000 kB\nMemFree:         10 kB\nMemAvailable:    250 kB\n')).toBeCloseTo(0.75);
    expect(memoryShare('')).toBeGreaterThan(0);
  });

  it('measures this host', () => {
    const meter = new HostMeter();
    expect(meter.hardware().processors).toBeGreaterThan(0);
    for (let i = 0; i < 3e6; i++) Math.sqrt(i);
    const sample = meter.sample();
    for (const share of [sample.processor, sample.memory]) {
      expect(share).toBeGreaterThanOrEqual(0);
      expect(share).toBeLessThanOrEqual(1);
    }
  });
});
