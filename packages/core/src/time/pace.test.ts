import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { paceAt, type PaceWindow } from './pace';

const at = (text: string) => Date.parse(`2026-11-24T${text}:00Z`);
const time = fc.tuple(fc.nat(23), fc.nat(59)).map(([h, m]) => `${String(h).padStart(2, '0')}:${String(m).padStart(2, '0')}`);
const window = fc.record({ from: time, to: time, perSecond: fc.integer({ min: 1000, max: 1e9 }) });

describe('a limit by hour of the day', () => {
  it('holds from its start up to its end, over midnight too, and all day when both are the same', () => {
    const day: PaceWindow = { from: '07:00', to: '18:30', perSecond: 5e6 };
    expect(['06:59', '07:00', '18:29', '18:30'].map((t) => paceAt([day], at(t), 'UTC'))).toEqual([undefined, 5e6, 5e6, undefined]);
    expect(['05:59', '06:00'].map((t) => paceAt([day], at(t), 'Europe/Oslo'))).toEqual([undefined, 5e6]);
    const night = { ...day, from: '22:00', to: '05:00' };
    expect(['21:59', '22:00', '04:59', '05:00'].map((t) => paceAt([night], at(t), 'UTC'))).toEqual([undefined, 5e6, 5e6, undefined]);
    expect(paceAt([{ ...day, to: '07:00' }], at('03:00'), 'UTC')).toBe(5e6);
    expect(paceAt([], at('03:00'), 'UTC')).toBeUndefined();
  });

  it('is the least of all that hold, in any order, and every minute lies in a window or in its opposite', () => {
    fc.assert(
      fc.property(fc.array(window, { maxLength: 6 }), fc.nat(86_399_999), (windows, ms) => {
        const alone = windows.flatMap((w) => paceAt([w], ms, 'UTC') ?? []);
        const together = paceAt(windows, ms, 'UTC');
        expect(together).toBe(alone.length ? Math.min(...alone) : undefined);
        expect(paceAt([...windows].reverse(), ms, 'UTC')).toBe(together);
        for (const w of windows.filter(({ from, to }) => from !== to)) {
          const opposite = paceAt([{ ...w, from: w.to, to: w.from }], ms, 'UTC');
          expect((paceAt([w], ms, 'UTC') === undefined) !== (opposite === undefined)).toBe(true);
        }
      }),
    );
  });
});
