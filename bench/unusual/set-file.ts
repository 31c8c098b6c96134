import fs from 'node:fs';
import { ChangeReader } from '@lithodex/core';
import { z } from 'zod';
import type { LabelledPoint, LabelledSeries } from './labelled-set';

const n = z.number();
const Look = z.object({ size: n, random: z.boolean(), content: z.string(), mtime: n });
const place = { folder: z.string(), name: z.string() };
const Change = z.discriminatedUnion('change', [
  z.object({ ...place, change: z.literal('added'), now: Look }),
  z.object({ ...place, change: z.literal('changed'), now: Look, before: Look }),
  z.object({ ...place, change: z.literal('removed'), before: Look }),
]);
const Counts = z.object({
  of: z.enum(['files', 'blocks']).default('files'),
  before: n,
  added: n,
  changed: n,
  removed: n,
  random: n,
  turnedRandom: n.default(0),
  renamed: n.default(0),
  twins: n.optional(),
  moved: n.optional(),
  removedFresh: n.optional(),
  addedBytes: n.optional(),
  removedBytes: n.optional(),
  ending: z.string().optional(),
});
/** A line of a set: a point in numbers, or with the number of items there were and each that differs. */
const Line = z.object({
  series: z.string(),
  moment: n,
  before: n.optional(),
  counts: Counts.optional(),
  changes: z.array(Change).optional(),
  attacked: z.boolean().default(false),
  attack: z.string().default(''),
  slow: z.boolean().default(false),
  damagedBefore: n.default(0),
  damaged: z.array(z.string()).optional(),
});

/** Reads a set of lines of JSON; the points of a series in the order of their moments. Throws what is wrong with a line. */
export function readSet(text: string): LabelledSeries[] {
  const series = new Map<string, (z.infer<typeof Line> & { point: LabelledPoint })[]>();
  for (const row of text.split('\n').filter(Boolean)) {
    const line = Line.parse(JSON.parse(row));
    const point: LabelledPoint = {
      moment: line.moment,
      counts: line.counts ?? countsOf(line),
      changes: line.changes ?? null,
      note: line.attack,
      attacked: line.attacked,
      damaged: line.damaged ? new Set(line.damaged) : null,
      damagedBefore: line.damagedBefore,
    };
    series.set(line.series, [...(series.get(line.series) ?? []), { ...line, point }]);
  }
  return [...series].map(([name, lines]) => ({
    name,
    attack: lines.find((l) => l.attacked)?.attack ?? '',
    slow: lines.some((l) => l.slow),
    points: lines.sort((a, b) => a.moment - b.moment).map((l) => l.point),
  }));
}

function countsOf({ changes = [], before = 0, moment }: z.infer<typeof Line>): LabelledPoint['counts'] {
  const reader = new ChangeReader(before > 0);
  for (const change of changes) reader.add(change);
  return reader.read(before, moment).counts;
}

/** Writes a set as {@link readSet} reads it, one point a line. */
export function writeSet(file: string, set: Iterable<LabelledSeries>): void {
  const fd = fs.openSync(file, 'w');
  try {
    for (const { name, attack, slow, points } of set)
      for (const { moment, counts, changes, attacked, damaged, damagedBefore } of points) {
        const line: z.input<typeof Line> = {
          series: name,
          moment,
          before: counts.before,
          attacked,
          attack: attacked ? attack : '',
          slow,
          damagedBefore,
          ...(changes ? { changes: [...changes], damaged: [...(damaged ?? [])] } : { counts: { ...counts, of: counts.of ?? 'files' } }),
        };
        fs.writeSync(fd, `${JSON.stringify(line)}\n`);
      }
  } finally {
    fs.closeSync(fd);
  }
}
