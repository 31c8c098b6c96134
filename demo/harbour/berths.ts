import { DateTime } from 'luxon';
import type { Random } from './random';

/** On this night the database server of the berths is connected; on the third day after, a script empties the tariffs. */
export const berthsNight = 52;
export const emptiedNight = 54;
/** Before this night's log was fetched the server had purged it. */
export const purgedNight = 53;

/** How the server is protected: a full a week and after a gap, and the log. */
export const berthsPolicy = {
  name: 'Bookings, to the second',
  full: { every: 'week', days: [3, 7], at: '02:10' },
  log: { every: 'minutes', minutes: 30 },
  days: 14,
} as const;

/** What an account that protects it may do, and no more: one that may connect always would not live by the clock of the story. */
const rights =
  'SELECT, SHOW VIEW, TRIGGER, EVENT, RELOAD, LOCK TABLES, BINLOG MONITOR, REPLICATION SLAVE, SLAVE MONITOR, CREATE, INSERT, ALTER, DROP, INDEX, REFERENCES, CREATE VIEW, CREATE ROUTINE, ALTER ROUTINE, SET USER, UPDATE, DELETE';

const ships = ['Gråskær', 'Fyrlys', 'Havterne', 'Sortland', 'Kveite', 'Måken', 'Tindhorn', 'Ryeholm'];
const goods = ['grain', 'salt', 'timber', 'fish', 'gravel', 'wool', 'oil', 'ice'];

/** Statements that are logged as of a moment, seconds. */
const asOf = (at: number) => `SET TIMESTAMP = ${at};`;

/** Makes the databases and the account. */
export function makeBerths(random: Random, at: number, account: { name: string; password: string }): string {
  const tariffs = Array.from(
    { length: 4812 },
    (_, i) => `(${i + 1}, '${goods[i % goods.length]!}', ${1 + (i % 40)}, ${random.int(80, 9900)})`,
  );
  return `${asOf(at)}
CREATE USER '${account.name}'@'127.0.0.1' IDENTIFIED BY '${account.password}'; GRANT ${rights} ON *.* TO '${account.name}'@'127.0.0.1';
CREATE DATABASE berth_bookings CHARACTER SET utf8mb4; CREATE DATABASE tariffs CHARACTER SET utf8mb4;
USE tariffs;
CREATE TABLE tariff (id INT PRIMARY KEY, goods VARCHAR(20) NOT NULL, berth INT NOT NULL, cents INT NOT NULL);
INSERT INTO tariff VALUES ${tariffs.join(', ')};
USE berth_bookings;
CREATE TABLE ship (id INT PRIMARY KEY AUTO_INCREMENT, name VARCHAR(60) NOT NULL, length DECIMAL(6,2) NOT NULL);
INSERT INTO ship (name, length) VALUES ${ships.map((s, i) => `('${s}', ${40 + i * 9.5})`).join(', ')};
CREATE TABLE booking (id INT PRIMARY KEY AUTO_INCREMENT, ship INT NOT NULL, berth INT NOT NULL, since DATETIME NOT NULL, note VARCHAR(80) NOT NULL DEFAULT '',
  CONSTRAINT of_ship FOREIGN KEY (ship) REFERENCES ship (id));
CREATE TABLE berth_state (berth INT PRIMARY KEY, ship INT NULL, changed DATETIME NOT NULL);
INSERT INTO berth_state SELECT seq, NULL, NOW() FROM seq_1_to_40;
CREATE VIEW taken AS SELECT b.berth, s.name FROM berth_state b JOIN ship s ON s.id = b.ship;
DELIMITER //
CREATE TRIGGER booked AFTER INSERT ON booking FOR EACH ROW UPDATE berth_state SET ship = NEW.ship, changed = NEW.since WHERE berth = NEW.berth//
DELIMITER ;
`;
}

/** A day of bookings, commit by commit, each at its second. */
export function workAtBerths(random: Random, evening: DateTime): string {
  const lines = ['USE berth_bookings;'];
  const day = evening.startOf('day');
  let at = day.plus({ hours: 6 });
  while (at < evening) {
    const s = Math.round(at.toSeconds());
    const berth = random.int(1, 40);
    lines.push(`${asOf(s)} INSERT INTO booking (ship, berth, since) VALUES (${random.int(1, ships.length)}, ${berth}, NOW());`);
    if (random.int(0, 4) === 0)
      lines.push(`${asOf(s + 2)} UPDATE berth_state SET ship = NULL, changed = NOW() WHERE berth = ${random.int(1, 40)};`);
    if (random.int(0, 12) === 0)
      lines.push(`${asOf(s + 5)} UPDATE tariffs.tariff SET cents = cents + 5 WHERE id = ${random.int(1, 4812)};`);
    at = at.plus({ seconds: random.int(120, 700) });
  }
  return lines.join('\n');
}

/** An import that went wrong, with what was done right before and after it. */
export function emptiesTariffs(evening: DateTime): string {
  const at = Math.round(evening.set({ hour: 14, minute: 3, second: 27 }).toSeconds());
  return `USE tariffs; ${asOf(at - 1)} UPDATE berth_bookings.berth_state SET changed = NOW() WHERE berth = 7; ${asOf(at)} DELETE FROM tariff;
${asOf(at + 14)} INSERT INTO berth_bookings.booking (ship, berth, since) VALUES (3, 12, NOW()); ${asOf(at + 35)} UPDATE berth_bookings.berth_state SET ship = NULL WHERE berth IN (12, 13);`;
}
