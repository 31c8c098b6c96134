import { ChangeReader, type ChangeCounts, type SeenChange } from '@lithodex/core';
import { Random } from '../../demo/harbour/random';
import { attacks } from './attacks';
import { habits } from './habits';
import { Life } from './life';
import { machineNights } from './machine-life';

/** A point of the set: what it changed, and what is true of it. */
export interface LabelledPoint {
  readonly moment: number;
  readonly counts: ChangeCounts;
  /** The differences themselves, where they are of a tree. */
  readonly changes: readonly SeenChange[] | null;
  /** What happened, where it was no usual night. */
  readonly note: string;
  readonly attacked: boolean;
  /** Paths that this night damaged; null where there is no tree. */
  readonly damaged: ReadonlySet<string> | null;
  /** Share of all that was damaged before this night, 0–1. */
  readonly damagedBefore: number;
}

export interface LabelledSeries {
  readonly name: string;
  readonly attack: string;
  readonly slow: boolean;
  readonly points: readonly LabelledPoint[];
}

export const nightsOfSeries = 115;

/** A workload over many nights, with a harmless event now and then and one attack. */
function liveSeries(no: number, seed: number): LabelledSeries {
  const random = new Random(seed * 7919 + no);
  const habit = habits[no % habits.length]!;
  const attack = attacks[Math.floor(no / habits.length) % attacks.length]!;
  const life = new Life(random);
  const strikesAt = random.int(16, nightsOfSeries - attack.nights - 1);
  const points: LabelledPoint[] = [];
  let damagedSoFar = 0;
  habit.begin(life);
  for (let night = 0; night < strikesAt + attack.nights; night++) {
    const before = [...life.items.values()].length;
    let note = '';
    if (night > 0) {
      habit.live(life);
      if (night > 2 && random.chance(0.02)) {
        note = 'a harmless event';
        random.pick(habit.events)(life);
      }
    }
    const attacked = night >= strikesAt;
    const stood = attacked ? [...life.items.keys()].filter((path) => life.stood(path)) : [];
    if (attacked) attack.strike(life, night - strikesAt);
    const deleted = attack.name.includes('deleted') ? stood.filter((path) => !life.items.has(path)) : [];
    const moment = life.now;
    const { changes, damaged } = life.turn();
    const reader = new ChangeReader(night > 0);
    for (const change of changes) reader.add(change);
    const { counts } = reader.read(night > 0 ? before : 0, moment);
    const hurt = new Set([...damaged.keys(), ...deleted]);
    points.push({
      moment,
      counts,
      changes,
      note: attacked ? attack.name : note,
      attacked,
      damaged: hurt,
      damagedBefore: damagedSoFar / Math.max(1, before),
    });
    damagedSoFar += hurt.size;
  }
  return { name: `${habit.name} ${no}`, attack: attack.name, slow: attack.nights > 1, points };
}

/** A hundred workloads with an attack each, a fifth of them slow, ninety trees and ten images told in blocks, and sixty that nothing happens to. `wants`: by their number. */
export function* labelledSet(seed: number, wants: (no: number) => boolean = () => true): Generator<LabelledSeries> {
  for (let no = 0; no < 160; no++)
    if (wants(no)) yield no < 90 ? liveSeries(no, seed) : no < 100 ? machineNights(no - 90, seed, nightsOfSeries) : quiet(no - 100, seed);
}

/** The same without an attack. */
function quiet(no: number, seed: number): LabelledSeries {
  const { points, name } = liveSeries(no, seed + 100_003);
  return { name: `${name}, quiet`, attack: '', slow: false, points: points.filter((p) => !p.attacked) };
}
