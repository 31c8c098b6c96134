import type { ChangeCounts } from '@lithodex/core';
import { Random } from '../../demo/harbour/random';
import { firstNight } from './life';
import type { LabelledPoint, LabelledSeries } from './labelled-set';

const day = 86_400_000;

/** Numbers of a machine's image over many nights, in blocks: churn of its own, days of updates and of tidying its disk, and one attack. */
export function machineNights(no: number, seed: number, nights: number): LabelledSeries {
  const random = new Random(seed * 104_729 + no);
  const blocks = random.int(20_000, 120_000);
  const churn = 0.005 + 0.03 * random.next();
  const mix = 0.05 + 0.4 * random.next();
  const slow = no % 5 === 4;
  const lasts = slow ? 10 : 1;
  const strikesAt = random.int(16, nights - lasts - 1);
  let damaged = 0;
  const points: LabelledPoint[] = [];
  for (let night = 0; night < strikesAt + lasts; night++) {
    const weekend = night % 7 > 4;
    let changed = blocks * churn * (weekend ? 0.5 : 1) * (0.6 + 0.8 * random.next());
    let ofRandom = mix * (0.85 + 0.3 * random.next());
    let note = '';
    if (night > 2 && random.chance(0.02)) {
      note = 'a harmless event';
      if (random.chance(0.5)) changed += blocks * (0.08 + 0.1 * random.next());
      else {
        changed = blocks * (0.3 + 0.3 * random.next());
        ofRandom = mix;
      }
    }
    let randomBlocks = changed * ofRandom;
    const attacked = night >= strikesAt;
    let more = 0;
    if (attacked) {
      more = blocks * (slow ? 0.03 + 0.05 * random.next() : 0.3 + 0.6 * random.next());
      changed += more;
      randomBlocks += more * 0.98;
    }
    const counts: ChangeCounts = {
      of: 'blocks',
      before: night ? blocks : 0,
      added: 0,
      changed: Math.min(blocks, Math.round(changed)),
      removed: 0,
      random: Math.min(blocks, Math.round(randomBlocks)),
      turnedRandom: 0,
      renamed: 0,
    };
    points.push({
      moment: firstNight + night * day,
      counts,
      changes: null,
      note: attacked ? 'blocks of the image' : note,
      attacked,
      damaged: null,
      damagedBefore: damaged / blocks,
    });
    damaged += more;
  }
  return { name: `machine ${no}`, attack: 'blocks of the image', slow, points };
}
