import { describe, expect, it } from 'vitest';
import { hardware, hostSample, toSample } from './host-meter';

const memory = { total: 1000, available: 250 };
const card = (iface: string, rx: number | null, tx: number | null) => ({ iface, rx_sec: rx, tx_sec: tx });

describe('the meter of a host', () => {
  it('adds up network cards, leaving out the loopback', () => {
    const sample = toSample({
      load: 42,
      memory,
      cards: [card('lo', 900, 900), card('eth0', 1000, 20), card('eth1', 5, 7)],
      disks: { rx_sec: 3, wx_sec: 4 },
    });
    expect(sample).toEqual({ processor: 0.42, memory: 0.75, received: 1005, sent: 27, read: 3, written: 4 });
  });

  it('leaves unknown what nobody measured, and never goes below nothing or above all', () => {
    expect(toSample({ load: 140, memory: { total: 0, available: 0 }, cards: [], disks: null })).toEqual({
      processor: 1,
      memory: 0,
      received: null,
      sent: null,
      read: null,
      written: null,
    });
    const first = toSample({ load: 1, memory, cards: [card('eth0', null, null)], disks: { rx_sec: null, wx_sec: -1 } });
    expect(first).toMatchObject({ received: null, sent: null, read: null, written: 0 });
  });

  it('measures this host', async () => {
    expect(hardware().processors).toBeGreaterThan(0);
    const { processor, memory: used } = await hostSample();
    for (const part of [processor, used]) {
      expect(part).toBeGreaterThanOrEqual(0);
      expect(part).toBeLessThanOrEqual(1);
    }
    expect(used).toBeGreaterThan(0);
  });
});
