import { describe, expect, it } from 'vitest';
import { disksOf, hardware, hostSample, networkOf, toSample, type Counted } from './host-meter';

const memory = { total: 1000, available: 250 };
const rows = (text: string) =>
  text
    .trim()
    .split('\n')
    .map((line) => line.trim().split(/[\s:]+/));
const none: Counted = { at: 0, busy: 0, ticks: 0, received: null, sent: null, read: null, written: null };

describe('the meter of a host', () => {
  it('adds up network cards, leaving out the loopback', () => {
    const table = `Inter-|   Receive                                                |  Transmit
 face |bytes    packets errs drop fifo frame compressed multicast|bytes    packets errs drop fifo colls carrier compressed
    lo: 900 1 0 0 0 0 0 0 900 1 0 0 0 0 0 0
  eth0: 1000 1 0 0 0 0 0 0 20 1 0 0 0 0 0 0
  eth1:5 1 0 0 0 0 0 0 7 1 0 0 0 0 0 0`;
    expect(networkOf(rows(table))).toEqual({ received: 1005, sent: 27 });
    expect(networkOf([])).toEqual({ received: null, sent: null });
  });

  it('adds up whole disks, not their parts nor what lies on them', () => {
    const table = `   8       0 sda 10 0 100 5 20 0 200 5 0 0 0
   8       1 sda1 10 0 100 5 20 0 200 5 0 0 0
 259       0 nvme0n1 1 0 8 5 2 0 16 5 0 0 0
   7       0 loop0 1 0 8 5 2 0 16 5 0 0 0
 253       0 dm-0 1 0 8 5 2 0 16 5 0 0 0`;
    expect(disksOf(rows(table))).toEqual({ read: 108 * 512, written: 216 * 512 });
  });

  it('tells rates between two counts, and leaves unknown what nobody counted', () => {
    const before = { at: 1000, busy: 100, ticks: 1000, received: 500, sent: 0, read: 0, written: 4096 };
    const after = { at: 3000, busy: 142, ticks: 1100, received: 2500, sent: 10, read: 8192, written: 4096 };
    expect(toSample(before, after, memory)).toEqual({ processor: 0.42, memory: 0.75, received: 1000, sent: 5, read: 4096, written: 0 });
    expect(toSample(none, { ...none, at: 5 }, { total: 0, available: 0 })).toEqual({
      processor: 0,
      memory: 0,
      received: null,
      sent: null,
      read: null,
      written: null,
    });
    // a card that is gone takes its bytes along
    expect(toSample(after, { ...before, at: 4000 }, memory).received).toBe(0);
  });

  it('measures this host', () => {
    expect(hardware().processors).toBeGreaterThan(0);
    const { processor, memory: used } = hostSample();
    for (const part of [processor, used]) {
      expect(part).toBeGreaterThanOrEqual(0);
      expect(part).toBeLessThanOrEqual(1);
    }
    expect(used).toBeGreaterThan(0);
  });
});
