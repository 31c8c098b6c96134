import type { Knex } from 'knex';
import { first } from './first-tables';
import * as later from './later-tables';
import { oneRestore } from './one-restore';
import { runAll } from './run-all';
import { scansWithRules } from './scans-with-rules';

interface Migration {
  readonly name: string;
  up(k: Knex): Promise<void>;
}

/** Bundled in the build: no directory is read at run time. */
const targetCare = `
ALTER TABLE target ADD pruned_at BIGINT NULL, ADD prune_due BOOLEAN NOT NULL DEFAULT FALSE, ADD verified_at BIGINT NULL;
`;

/** Targets may be buckets; what opens them is sealed. */
const buckets = `
ALTER TABLE target MODIFY folder VARCHAR(4096) NULL, ADD bucket JSON NULL, ADD secret VARBINARY(1000) NULL;
`;

/** A point may stand on several targets, each copy with an end of its own. */
const copies = `
CREATE TABLE copy (
  point_id CHAR(36) NOT NULL, target_id CHAR(36) NOT NULL, state VARCHAR(10) NOT NULL, made_at BIGINT NOT NULL, stored BIGINT NOT NULL,
  keep_rule JSON NULL, gone_at BIGINT NULL, PRIMARY KEY (point_id, target_id), KEY (target_id, state)
);
INSERT INTO copy SELECT p.id, s.target_id, IF(p.state = 'visible', 'present', 'gone'), p.moment, p.stored, NULL, p.expired_at
  FROM point p JOIN series s ON s.no = p.series_no;
`;

/** Copies may be locked; what would delete something that still counts waits for a second person. */
const locks = `
ALTER TABLE copy ADD locked_until BIGINT NULL;
CREATE TABLE request (
  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, kind VARCHAR(20) NOT NULL, subject VARCHAR(60) NOT NULL, effect VARCHAR(1000) NOT NULL, act JSON NOT NULL,
  asked_by INT UNSIGNED NOT NULL, asked_at BIGINT NOT NULL, state VARCHAR(12) NOT NULL, decided_by INT UNSIGNED NULL, decided_at BIGINT NULL,
  outcome VARCHAR(500) NOT NULL DEFAULT '', KEY (state, asked_at)
);
`;

/** How full targets were, and what they cost. */
const room = `
CREATE TABLE room_sample (target_id CHAR(36) NOT NULL, at BIGINT NOT NULL, used BIGINT NOT NULL, PRIMARY KEY (target_id, at));
ALTER TABLE target ADD prices JSON NULL;
`;

/** How many tasks may write to a target at once, and where its points go when it is given up. */
const limits = `
ALTER TABLE target ADD writers INT NULL, ADD retired_to CHAR(36) NULL;
`;

/** Targets may be sets of cartridges too. */
const cartridges = `
ALTER TABLE target CHANGE bucket address JSON NULL;
`;

/** How fast targets are written to at which hours. */
const paces = `
ALTER TABLE target ADD paces JSON NULL;
`;

/** How many tasks may read a source at once. */
const readers = `
ALTER TABLE source ADD readers INT NULL;
`;

/** The settings are kept on the targets. */
const keptSettings = `
ALTER TABLE target ADD settings_sum CHAR(64) NULL, ADD settings_at BIGINT NULL, ADD settings_held BOOLEAN NOT NULL DEFAULT FALSE;
`;

/** What the token of a mover entitles it to, null for everything; a task is told of only by the mover it was given to. */
const moverDuties = `
ALTER TABLE api_token ADD duties JSON NULL;
ALTER TABLE task ADD token_id INT UNSIGNED NULL;
`;

/** Until when a run may go on starting, how often it was tried again by itself, and who goes first. */
const runWindows = `
ALTER TABLE run ADD window_ends BIGINT NULL, ADD window_stop BOOLEAN NOT NULL DEFAULT FALSE, ADD retried INT NOT NULL DEFAULT 0;
ALTER TABLE task ADD priority TINYINT NOT NULL DEFAULT 1, ADD cut_off BOOLEAN NOT NULL DEFAULT FALSE;
`;

/** What a policy said when, and who wrote it. */
const policyVersions = `
CREATE TABLE policy_version (
  policy_id INT UNSIGNED NOT NULL, no INT UNSIGNED NOT NULL, at BIGINT NOT NULL, written_by VARCHAR(160) NOT NULL, body JSON NOT NULL,
  PRIMARY KEY (policy_id, no), FOREIGN KEY (policy_id) REFERENCES policy (id)
);
INSERT INTO policy_version (policy_id, no, at, written_by, body) SELECT id, 1, FLOOR(UNIX_TIMESTAMP(NOW(3)) * 1000), '', body FROM policy;
`;

/** Sources may be virtualization platforms, whose machines are workloads of their own; what becomes different in the estate is recorded. */
const platforms = `
ALTER TABLE source ADD kind VARCHAR(12) NOT NULL DEFAULT 'files', ADD address JSON NULL, ADD secret BLOB NULL, ADD opener_ends BIGINT NULL,
  ADD read_at BIGINT NULL, ADD tried_at BIGINT NULL, ADD trouble VARCHAR(500) NULL;
ALTER TABLE workload DROP INDEX name, ADD KEY (name), ADD kind VARCHAR(12) NOT NULL DEFAULT 'files', ADD outer_id VARCHAR(80) NULL, ADD facts JSON NULL,
  ADD gone_at BIGINT NULL, ADD UNIQUE KEY outer_id (source_id, outer_id);
ALTER TABLE point ADD machine JSON NULL;
SET @@system_versioning_alter_history = 1;
ALTER TABLE tag ADD given BOOLEAN NOT NULL DEFAULT TRUE;
CREATE TABLE estate_change (
  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, at BIGINT NOT NULL, source_id INT UNSIGNED NOT NULL, workload_id INT UNSIGNED NOT NULL, what VARCHAR(8) NOT NULL,
  detail VARCHAR(300) NOT NULL, KEY (at), KEY (workload_id, at)
);
`;

/** What the estate says of the points of each workload. */
const pointSummary = `
CREATE TABLE workload_points (
  workload_id INT UNSIGNED PRIMARY KEY, points INT NOT NULL, oldest BIGINT NOT NULL, suspects INT NOT NULL, point_id CHAR(36) NOT NULL, moment BIGINT NOT NULL,
  bytes BIGINT NOT NULL, items BIGINT NOT NULL, all_bytes BIGINT NOT NULL, all_stored BIGINT NOT NULL
);
INSERT INTO workload_points SELECT s.workload_id, s.points, s.oldest, s.suspects, MAX(p.id), p.moment, MAX(p.bytes), MAX(p.items), s.all_bytes, s.all_stored
  FROM (SELECT workload_id, COUNT(*) AS points, MIN(moment) AS oldest, SUM(suspect) AS suspects, SUM(bytes) AS all_bytes, SUM(stored) AS all_stored, COALESCE(MAX(IF(suspect, NULL, moment)), MAX(moment)) AS newest
    FROM point WHERE state = 'visible' GROUP BY workload_id) s
  JOIN point p ON p.workload_id = s.workload_id AND p.state = 'visible' AND p.moment = s.newest GROUP BY s.workload_id;
ALTER TABLE run ADD sums JSON NULL;
ALTER TABLE task ADD KEY (type, queued_at);
`;

/** Points of each policy, counted where they come and go; names of runs in an index of their own, which a search by text reads alone. */
const policyPoints = `
CREATE TABLE policy_points (
  workload_id INT UNSIGNED NOT NULL, policy_id INT UNSIGNED NOT NULL, points INT NOT NULL, PRIMARY KEY (workload_id, policy_id), KEY (policy_id, points)
);
INSERT INTO policy_points SELECT workload_id, policy_id, COUNT(*) FROM point WHERE state = 'visible' AND policy_id IS NOT NULL GROUP BY workload_id, policy_id;
ALTER TABLE run ADD KEY run_name (name);
`;

/** What people made of the matters, and when they last looked. */
const matters = `
CREATE TABLE matter (
  id VARCHAR(120) PRIMARY KEY, opened_at BIGINT NOT NULL, closed_at BIGINT NULL, owner_id INT UNSIGNED NULL, note VARCHAR(500) NOT NULL DEFAULT '',
  noted_by VARCHAR(120) NULL, noted_at BIGINT NULL, put_off BIGINT NULL, put_off_level VARCHAR(8) NULL, KEY (closed_at)
);
CREATE TABLE look (person_id INT UNSIGNED PRIMARY KEY, at BIGINT NOT NULL, before_at BIGINT NOT NULL);
`;

/** Who is told of what, and the messages that go out. */
const notices = `
CREATE TABLE notice (
  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, name VARCHAR(120) NOT NULL UNIQUE, about JSON NOT NULL, way JSON NOT NULL, secret BLOB NULL,
  paused BOOLEAN NOT NULL DEFAULT FALSE, since BIGINT NOT NULL
);
CREATE TABLE message (
  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, notice_id INT UNSIGNED NOT NULL, about VARCHAR(160) NOT NULL, subject VARCHAR(300) NOT NULL, body MEDIUMTEXT NOT NULL,
  data JSON NOT NULL, attachment JSON NULL, queued_at BIGINT NOT NULL, next_try BIGINT NULL, tries INT NOT NULL DEFAULT 0, sent_at BIGINT NULL,
  trouble VARCHAR(500) NULL, UNIQUE (notice_id, about), KEY (next_try), KEY (queued_at), FOREIGN KEY (notice_id) REFERENCES notice (id) ON DELETE CASCADE
);
ALTER TABLE run ADD KEY (ended_at);
`;

/** Movers with their hosts, and codes by which one joins. */
const movers = `
CREATE TABLE mover (
  name VARCHAR(80) PRIMARY KEY, first_seen BIGINT NOT NULL, last_seen BIGINT NOT NULL, drained BOOLEAN NOT NULL DEFAULT FALSE, tasks INT NOT NULL DEFAULT 2,
  duties JSON NOT NULL, hardware JSON NOT NULL, latest JSON NOT NULL
);
CREATE TABLE mover_sample (mover VARCHAR(80) NOT NULL, at BIGINT NOT NULL, sample JSON NOT NULL, PRIMARY KEY (mover, at));
CREATE TABLE join_code (hash CHAR(64) PRIMARY KEY, duties JSON NOT NULL, made_by VARCHAR(160) NOT NULL, until BIGINT NOT NULL, used_by VARCHAR(80) NULL);
`;

/** Filters of the runs that people gave names. */
const savedFilters = `
CREATE TABLE saved_filter (
  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, person_id INT UNSIGNED NOT NULL, name VARCHAR(120) NOT NULL, query JSON NOT NULL, UNIQUE (person_id, name)
);
`;

/** What running tasks had read and written, every few seconds. */
const rates = `
CREATE TABLE rate_sample (
  task_id CHAR(36) NOT NULL, at BIGINT NOT NULL, read_bytes BIGINT NOT NULL, stored BIGINT NOT NULL, PRIMARY KEY (task_id, at), KEY (at)
);
`;

/** A policy may have several rules, which runs and points remember by number; each has times of its own. */
const policyRules = `
ALTER TABLE run ADD rule_no TINYINT UNSIGNED NOT NULL DEFAULT 1;
ALTER TABLE point ADD rule_no TINYINT UNSIGNED NOT NULL DEFAULT 1;
ALTER TABLE policy_clock ADD rule_no TINYINT UNSIGNED NOT NULL DEFAULT 1, DROP PRIMARY KEY, ADD PRIMARY KEY (policy_id, rule_no);
`;

/** Accounts of the systems inside machines. */
const insideAccounts = `
CREATE TABLE inside_account (
  workload_id INT UNSIGNED PRIMARY KEY, name VARCHAR(120) NOT NULL, secret BLOB NOT NULL, tested_at BIGINT NOT NULL,
  FOREIGN KEY (workload_id) REFERENCES workload (id) ON DELETE CASCADE
);
`;

/** Where movers stand. */
const moverPlaces = `
ALTER TABLE mover ADD place VARCHAR(80) NOT NULL DEFAULT '';
`;

/** Whose tokens those are that movers got by a code: they are no other mover's, and go with it. */
const moverTokens = `
ALTER TABLE api_token ADD mover VARCHAR(120) NULL, ADD KEY (mover);
`;

/** Reports over months add up backups by what stands in the index alone. */
const taskEnds = `
ALTER TABLE task DROP KEY type, ADD KEY type (type, ended_at, run_id, state, started_at);
`;

/** What a workload had at a moment is told by the index alone. */
const pointSuspects = `
ALTER TABLE point DROP KEY workload_id, ADD KEY workload_id (workload_id, state, moment, suspect);
`;

/** What is promised to copies is written down with them; points taken besides the schedule displace no others; who made or changed an account can not have it agree. */
const promises = `
ALTER TABLE copy ADD promised_until BIGINT NULL;
ALTER TABLE point ADD extra BOOLEAN NOT NULL DEFAULT FALSE;
ALTER TABLE request ADD loss JSON NULL;
CREATE TABLE person_change (person_id INT UNSIGNED NOT NULL, by_id INT UNSIGNED NOT NULL, PRIMARY KEY (person_id, by_id));
`;

/** Tokens belong to somebody, end, and act for some workloads or systems only; sessions are known by their person, so that they can be listed and ended. */
const accounts = `
ALTER TABLE api_token ADD owner_id INT UNSIGNED NULL, ADD remit JSON NULL, ADD expires_at BIGINT NULL, ADD systems JSON NULL, ADD KEY (owner_id);
ALTER TABLE session ADD person_id INT UNSIGNED NULL, ADD created_at BIGINT NULL, ADD seen_at BIGINT NULL, ADD address VARCHAR(60) NOT NULL DEFAULT '',
  ADD agent VARCHAR(200) NOT NULL DEFAULT '', ADD KEY (person_id);
UPDATE session SET person_id = JSON_VALUE(data, '$.personId');
ALTER TABLE run MODIFY person VARCHAR(160) NOT NULL;
ALTER TABLE join_code ADD systems JSON NULL;
`;

/** Second factors, the organisation's own sign-in, links for those who forgot, and limits of tries. */
const signIn = `
ALTER TABLE person ADD code_secret TEXT NULL, ADD code_counter BIGINT NOT NULL DEFAULT 0, ADD recovery JSON NULL,
  ADD must_change BOOLEAN NOT NULL DEFAULT FALSE, ADD subject VARCHAR(600) NULL, ADD UNIQUE KEY (subject);
CREATE TABLE passkey (
  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, person_id INT UNSIGNED NOT NULL, name VARCHAR(120) NOT NULL, credential VARCHAR(700) NOT NULL,
  public_key BLOB NOT NULL, counter BIGINT NOT NULL, transports JSON NULL, created_at BIGINT NOT NULL, used_at BIGINT NULL, KEY (person_id)
);
CREATE TABLE reset_link (hash CHAR(64) PRIMARY KEY, person_id INT UNSIGNED NOT NULL, second BOOLEAN NOT NULL, until BIGINT NOT NULL, made_by VARCHAR(160) NOT NULL);
CREATE TABLE sign_in_failure (name VARCHAR(60) NOT NULL, address VARCHAR(60) NOT NULL, at BIGINT NOT NULL, KEY (name, at), KEY (address, at));
CREATE TABLE sign_in_place (person_id INT UNSIGNED NOT NULL, address VARCHAR(60) NOT NULL, at BIGINT NOT NULL, PRIMARY KEY (person_id, address));
`;

/** What points of other kinds than folders and machines say. */
const pointFacts = 'ALTER TABLE point ADD facts JSON NULL;';

/** A source may be read by one mover alone. */
const sourceReaders = `
ALTER TABLE source ADD read_by VARCHAR(80) NULL`;

/** A restore waits for the point that is taken before it. */
const runAfter = `
ALTER TABLE run ADD after_run INT UNSIGNED NULL, ADD KEY (after_run)`;

/** A new installation asks administrators for a second factor; one that is there already goes on as it was. */
async function signInOfNew(knex: Knex): Promise<void> {
  await runAll(knex, signIn);
  if (!(await knex('person').first('id')))
    await knex('setting').insert({ name: 'sign-in', value: JSON.stringify({ secondFor: ['administrator'], idleMinutes: 240 }) });
}

export const migrations: Migration[] = [
  { name: '0001-the-slice', up: (k) => runAll(k, first) },
  { name: '0002-target-care', up: (k) => runAll(k, targetCare) },
  { name: '0003-buckets', up: (k) => runAll(k, buckets) },
  { name: '0004-copies', up: (k) => runAll(k, copies) },
  { name: '0005-locks', up: (k) => runAll(k, locks) },
  { name: '0006-room', up: (k) => runAll(k, room) },
  { name: '0007-limits', up: (k) => runAll(k, limits) },
  { name: '0008-cartridges', up: (k) => runAll(k, cartridges) },
  { name: '0009-paces', up: (k) => runAll(k, paces) },
  { name: '0010-readers', up: (k) => runAll(k, readers) },
  { name: '0011-kept-settings', up: (k) => runAll(k, keptSettings) },
  { name: '0012-mover-duties', up: (k) => runAll(k, moverDuties) },
  { name: '0013-run-windows', up: (k) => runAll(k, runWindows) },
  { name: '0014-policy-versions', up: (k) => runAll(k, policyVersions) },
  { name: '0015-platforms', up: (k) => runAll(k, platforms) },
  { name: '0016-point-summary', up: (k) => runAll(k, pointSummary) },
  { name: '0017-policy-points', up: (k) => runAll(k, policyPoints) },
  { name: '0018-matters', up: (k) => runAll(k, matters) },
  { name: '0019-notices', up: (k) => runAll(k, notices) },
  { name: '0020-movers', up: (k) => runAll(k, movers) },
  { name: '0021-saved-filters', up: (k) => runAll(k, savedFilters) },
  { name: '0022-rates', up: (k) => runAll(k, rates) },
  { name: '0023-policy-rules', up: (k) => runAll(k, policyRules) },
  { name: '0024-inside-accounts', up: (k) => runAll(k, insideAccounts) },
  { name: '0025-mover-places', up: (k) => runAll(k, moverPlaces) },
  { name: '0026-mover-tokens', up: (k) => runAll(k, moverTokens) },
  { name: '0027-task-ends', up: (k) => runAll(k, taskEnds) },
  { name: '0028-point-suspects', up: (k) => runAll(k, pointSuspects) },
  { name: '0029-promises', up: (k) => runAll(k, promises) },
  { name: '0030-accounts', up: (k) => runAll(k, accounts) },
  { name: '0031-sign-in', up: signInOfNew },
  { name: '0032-one-restore', up: oneRestore },
  { name: '0033-point-facts', up: (k) => runAll(k, pointFacts) },
  { name: '0034-source-readers', up: (k) => runAll(k, sourceReaders) },
  { name: '0035-run-after', up: (k) => runAll(k, runAfter) },
  { name: '0036-followed-logs', up: (k) => runAll(k, later.followed) },
  { name: '0037-name-blocks', up: (k) => runAll(k, later.nameBlocks) },
  { name: '0038-edited-texts', up: (k) => runAll(k, later.editedTexts) },
  { name: '0039-newest-files', up: (k) => runAll(k, later.newestFiles) },
  { name: '0040-made-machines', up: (k) => runAll(k, later.madeMachines) },
  { name: '0041-standing-restores', up: (k) => runAll(k, later.standingRestores) },
  { name: '0042-shares', up: (k) => runAll(k, later.shares) },
  { name: '0043-names-inside', up: (k) => runAll(k, later.namesInside) },
  { name: '0044-storage-snapshots', up: (k) => runAll(k, later.storageSnapshots) },
  { name: '0045-long-outer-ids', up: (k) => runAll(k, later.longOuterIds) },
  { name: '0046-askings', up: (k) => runAll(k, later.askings) },
  { name: '0047-whole-servers', up: (k) => runAll(k, later.wholeServers) },
  { name: '0048-units', up: (k) => runAll(k, later.units) },
  { name: '0049-installations', up: (k) => runAll(k, later.installations) },
  { name: '0050-envelopes', up: (k) => runAll(k, later.envelopes) },
  { name: '0051-asking-movers', up: (k) => runAll(k, later.askingMovers) },
  { name: '0052-unusual-change', up: (k) => runAll(k, later.unusualChange) },
  { name: '0053-scans', up: scansWithRules },
  { name: '0054-drills', up: (k) => runAll(k, later.drills) },
  { name: '0055-following', up: (k) => runAll(k, later.following) },
  { name: '0056-brought-points', up: (k) => runAll(k, later.broughtPoints) },
  { name: '0057-seen-sums', up: (k) => runAll(k, later.seenSums) },
  { name: '0058-trial-machines', up: (k) => runAll(k, later.trialMachines) },
  { name: '0059-sequences', up: (k) => runAll(k, later.sequences) },
];
