import type { DateTime } from 'luxon';
import type { Random } from './random';

/** How the server of the tide gauges is protected. */
export const tidePolicy = {
  name: 'Tide gauges, to the second',
  full: { every: 'day' as const, at: '02:40' },
  log: { every: 'minutes' as const, minutes: 30 },
  objectiveMinutes: 60,
  days: 14,
};

const gauges = ['outer mole', 'lock gate', 'pilot steps', 'fish quay'];
/** One reading every ten minutes for so many days. */
const days = 21;

/** Makes the tables with the readings of the last weeks. */
export function makeTide(random: Random, now: DateTime): string {
  const rows = gauges.flatMap((gauge, g) =>
    Array.from({ length: days * 144 }, (_, i) => {
      const at = now.minus({ minutes: 10 * i });
      const cm = Math.round(180 + 140 * Math.sin(((at.toSeconds() / 3600 + g) * 2 * Math.PI) / 12.42) + random.int(-6, 6));
      return `${gauge}\t${at.toUTC().toFormat('yyyy-MM-dd HH:mm:ss')}+00\t${cm}`;
    }),
  );
  return `
CREATE TABLE gauge (name text PRIMARY KEY, zero_cm int NOT NULL, note text NOT NULL DEFAULT '');
INSERT INTO gauge (name, zero_cm) VALUES ${gauges.map((g, i) => `('${g}', ${12 + i})`).join(', ')};
CREATE TABLE reading (gauge text NOT NULL REFERENCES gauge (name), at timestamptz NOT NULL, cm int NOT NULL, PRIMARY KEY (gauge, at));
CREATE INDEX reading_at ON reading (at);
CREATE VIEW high_water AS SELECT gauge, at, cm FROM reading WHERE cm > 300;
CREATE FUNCTION above_zero(g text, cm int) RETURNS int LANGUAGE sql STABLE AS 'SELECT cm - zero_cm FROM gauge WHERE name = g';
COPY reading (gauge, at, cm) FROM stdin;
${rows.join('\n')}
\\.
`;
}

/** Readings that come in, each a commit. */
export function newReadings(random: Random): string {
  return gauges
    .map((gauge) => `INSERT INTO reading SELECT '${gauge}', clock_timestamp(), ${random.int(40, 320)};`)
    .concat(`UPDATE gauge SET note = 'read at ' || clock_timestamp() WHERE name = '${gauges[random.int(0, gauges.length - 1)]!}';`)
    .join('\n');
}
