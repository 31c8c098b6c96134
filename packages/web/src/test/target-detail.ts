import type { TargetDetail } from '@lithodex/contract';
import { target } from './samples';
import { day, now } from './stage';

const use = (name: string, id: number | null, stored: number) => ({ name, id, points: 10, stored, bytes: 5 * stored });
/** A target with all that its page shows. */
export const detail = (more: Partial<TargetDetail> = {}): TargetDetail => ({
  ...target(1),
  samples: Array.from({ length: 40 }, (_, i) => ({ at: now - (39 - i) * day, used: 1.6e11 + i * 1e9 })),
  use: {
    workloads: [use('quay-1', 1, 9e9), use('quay-2 <b>', 2, 3e9)],
    policies: [use('on demand', null, 1e9)],
    ages: [use('older', null, 4e9)],
  },
  onlyHere: 0,
  takenOver: 0,
  locked: { points: 0, until: null },
  young: [{ days: 10, stored: 1e9 }],
  ...more,
});
