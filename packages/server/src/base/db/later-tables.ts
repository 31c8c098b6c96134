/** Tasks that follow a log, and the point that they go on from. */
export const followed = 'ALTER TABLE task ADD follows BOOLEAN NOT NULL DEFAULT 0, ADD point_id CHAR(36) NULL;';

/** Names stand in blocks as they came, which are searched in memory; those of series that were there already are written down anew. */
export const nameBlocks = `
CREATE TABLE name_block (
  no INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, series_no INT UNSIGNED NOT NULL, ordinal BIGINT NOT NULL, count INT UNSIGNED NOT NULL,
  names MEDIUMBLOB NOT NULL, refs MEDIUMBLOB NOT NULL, KEY (series_no, ordinal)
);
ALTER TABLE series ADD names INT UNSIGNED NULL, ADD names_stale BOOLEAN NOT NULL DEFAULT 0;
UPDATE series SET names_stale = 1;
ALTER TABLE item DROP KEY name_hash, DROP COLUMN name_hash;
DROP TABLE item_name`;

/** What somebody edited and wants back, until it is. */
export const editedTexts = 'CREATE TABLE edited_text (task_id CHAR(36) PRIMARY KEY, sealed LONGBLOB NOT NULL);';

/** Machines that were made from a point, and of what workload it was. */
export const madeMachines = `
CREATE TABLE made_machine (
  source_id INT UNSIGNED NOT NULL, outer_id VARCHAR(200) NOT NULL, workload_id INT UNSIGNED NOT NULL, made_at BIGINT NOT NULL, PRIMARY KEY (source_id, outer_id)
)`;

/** Shares that files can be brought to. */
export const shares = `
CREATE TABLE share (id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, name VARCHAR(120) NOT NULL UNIQUE, address LONGTEXT NOT NULL, account VARCHAR(200) NOT NULL, secret BLOB NULL)`;

/** Restores that are repeated. */
export const standingRestores = `
CREATE TABLE standing_restore (
  no INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, id CHAR(36) NOT NULL, name VARCHAR(160) NOT NULL, body LONGTEXT NOT NULL, person VARCHAR(120) NOT NULL,
  due_from BIGINT NOT NULL, trouble VARCHAR(500) NOT NULL DEFAULT '', made LONGTEXT NULL, ended BOOLEAN NOT NULL DEFAULT 0
);
ALTER TABLE run ADD standing_no INT UNSIGNED NULL, ADD KEY (standing_no)`;

/** Text of points beside the store. */
export const newestFiles = 'ALTER TABLE target ADD newest_files BOOLEAN NOT NULL DEFAULT 0;';

/** Points whose names inside disks are in the catalog. */
export const namesInside = 'ALTER TABLE point ADD names_inside TINYINT UNSIGNED NOT NULL DEFAULT 0;';

/** What storages of platforms keep of their disks, and the machines in it. */
export const storageSnapshots = `
CREATE TABLE storage_snapshot (
  no INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, source_id INT UNSIGNED NOT NULL, storage VARCHAR(200) NOT NULL, outer_id VARCHAR(200) NOT NULL, name VARCHAR(200) NOT NULL,
  taken_at BIGINT NOT NULL, gone_at BIGINT NULL, UNIQUE KEY (source_id, outer_id)
);
CREATE TABLE snapshot_machine (
  id CHAR(36) PRIMARY KEY, snapshot_no INT UNSIGNED NOT NULL, workload_id INT UNSIGNED NOT NULL, outer_machine VARCHAR(200) NOT NULL, machine LONGTEXT NOT NULL,
  bytes BIGINT NOT NULL, UNIQUE KEY (snapshot_no, workload_id), KEY (workload_id)
)`;

/** What systems call their workloads may be long, as the ids of chat rooms are. */
export const longOuterIds = 'ALTER TABLE workload MODIFY outer_id VARCHAR(330) NULL;';

/** Links to people who miss something with what they asked for, and the codes by which they show who they are. */
export const askings = `
CREATE TABLE asking (
  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, workload_id INT UNSIGNED NOT NULL, hash CHAR(64) NULL UNIQUE, made_by VARCHAR(120) NOT NULL, made_at BIGINT NOT NULL,
  ends_at BIGINT NOT NULL, state VARCHAR(12) NOT NULL, note VARCHAR(500) NOT NULL DEFAULT '', words VARCHAR(500) NOT NULL DEFAULT '', asked_at BIGINT NULL,
  point_id CHAR(36) NULL, items LONGTEXT NOT NULL, run_id INT UNSIGNED NULL, decided_by VARCHAR(120) NOT NULL DEFAULT '', why VARCHAR(500) NOT NULL DEFAULT '',
  tell_next BIGINT NULL, tell_tries INT UNSIGNED NOT NULL DEFAULT 0, KEY (workload_id), KEY (tell_next), KEY (run_id)
);
CREATE TABLE own_code (
  workload_id INT UNSIGNED NOT NULL, asking_id INT UNSIGNED NOT NULL, hash CHAR(64) NOT NULL, until BIGINT NOT NULL, tries INT UNSIGNED NOT NULL DEFAULT 0,
  PRIMARY KEY (workload_id, asking_id)
)`;

/** Sources that are servers read whole. */
export const wholeServers = 'ALTER TABLE source ADD whole_server BOOLEAN NOT NULL DEFAULT 0;';

/** Machines that were started from a recovery medium and reported in. */
export const units = `
CREATE TABLE unit (name VARCHAR(80) PRIMARY KEY, facts LONGTEXT NOT NULL, first_seen BIGINT NOT NULL, last_seen BIGINT NOT NULL)`;

/** Other installations that are looked at from here, and what each said last. */
export const installations = `
CREATE TABLE installation (
  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, name VARCHAR(120) NOT NULL UNIQUE, url VARCHAR(300) NOT NULL, authority TEXT NULL, secret BLOB NOT NULL,
  state LONGTEXT NULL, answered_at BIGINT NULL, tried_at BIGINT NULL, trouble VARCHAR(300) NOT NULL DEFAULT '', clock_ahead BIGINT NOT NULL DEFAULT 0
)`;

/** When somebody last fetched the key envelope of a target, as far as the trail tells. */
export const envelopes = `
ALTER TABLE target ADD envelope_at BIGINT NULL;
UPDATE target SET
  envelope_at = (SELECT MAX(a.at) FROM audit a WHERE a.action IN ('target.envelope', 'target.takeOver') AND a.object = CONCAT('target ', target.id))`;

/** Movers that wait to be let in, by the sum of the token they made for themselves. */
export const askingMovers = `
CREATE TABLE mover_asking (
  sum CHAR(64) PRIMARY KEY, name VARCHAR(80) NOT NULL, address VARCHAR(60) NOT NULL, asked_at BIGINT NOT NULL, seen_at BIGINT NOT NULL, refused BOOLEAN NOT NULL DEFAULT 0
)`;

/** What a point changed in numbers and the signs found in them, what a person said of it, and from which score on points of a workload are held. */
export const unusualChange = `
ALTER TABLE point ADD counts JSON NULL, ADD signs JSON NULL, ADD said JSON NULL;
ALTER TABLE workload ADD hold_from TINYINT UNSIGNED NOT NULL DEFAULT 60`;

/**
 * Files of rules, what scans said of points and found in them, what could not be looked into (of the newest scanned point of a series), and files with sensitive data: each row stands for the time in which so much stood there.
 * Points that are looked into are those of one series; a workload may have several.
 */
export const scans = `
CREATE TABLE scan_rule (
  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, name VARCHAR(120) NOT NULL UNIQUE, text MEDIUMTEXT NOT NULL, is_on BOOLEAN NOT NULL, ships BOOLEAN NOT NULL DEFAULT 0,
  version INT UNSIGNED NOT NULL DEFAULT 1, changed_at BIGINT NOT NULL, changed_by VARCHAR(120) NOT NULL
);
CREATE TABLE point_scan (
  point_id CHAR(36) PRIMARY KEY, workload_id INT UNSIGNED NOT NULL, rules CHAR(16) NOT NULL, rules_at BIGINT NOT NULL, scanned_at BIGINT NOT NULL, items BIGINT NOT NULL,
  bytes BIGINT NOT NULL, bytes_read BIGINT NOT NULL, not_looked INT UNSIGNED NOT NULL, suspect INT UNSIGNED NOT NULL, infected INT UNSIGNED NOT NULL,
  sensitive_too BOOLEAN NOT NULL, told_all BOOLEAN NOT NULL, KEY (workload_id), KEY (infected)
);
CREATE TABLE scan_note (
  no BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, series_no INT UNSIGNED NOT NULL, point_id CHAR(36) NOT NULL, path BLOB NOT NULL, why VARCHAR(300) NOT NULL, KEY (series_no)
);
CREATE TABLE scan_find (
  no BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, point_id CHAR(36) NOT NULL, workload_id INT UNSIGNED NOT NULL, path BLOB NOT NULL, inner_path VARCHAR(2000) NOT NULL,
  rule VARCHAR(200) NOT NULL, about VARCHAR(500) NOT NULL, grade VARCHAR(10) NOT NULL, size BIGINT NOT NULL, sum CHAR(64) NOT NULL, KEY (point_id), KEY (sum), KEY (workload_id)
);
CREATE TABLE sensitive_file (
  no BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, series_no INT UNSIGNED NOT NULL, workload_id INT UNSIGNED NOT NULL, path_hash BINARY(16) NOT NULL, path BLOB NOT NULL,
  pattern VARCHAR(60) NOT NULL, findings INT UNSIGNED NOT NULL, sample VARCHAR(60) NOT NULL, owner VARCHAR(120) NOT NULL, mode INT UNSIGNED NOT NULL,
  from_at BIGINT NOT NULL, to_at BIGINT NULL, UNIQUE KEY (series_no, path_hash, pattern, from_at), KEY (workload_id, to_at)
)`;

/** How workloads are drilled, and the evidence of drills: what it is, its sum, and where the audit trail says so. */
export const drills = `
CREATE TABLE drill_plan (workload_id INT UNSIGNED PRIMARY KEY, checks JSON NOT NULL, objective INT UNSIGNED NULL, weight TINYINT UNSIGNED NOT NULL);
CREATE TABLE drill (
  id CHAR(36) PRIMARY KEY, run_id INT UNSIGNED NOT NULL, workload_id INT UNSIGNED NOT NULL, point_id CHAR(36) NOT NULL, at BIGINT NOT NULL, passed BOOLEAN NOT NULL,
  usable_ms BIGINT UNSIGNED NULL, evidence JSON NOT NULL, sum CHAR(64) NOT NULL, KEY (workload_id, at), KEY (run_id), KEY (at)
)`;

/** Stores of other installations that are followed: how often (minutes), when that is due again, and when one was read whole last; who owns a store, and who follows it. */
export const following = `
ALTER TABLE target ADD follows_every INT UNSIGNED NULL, ADD follow_due BIGINT NULL, ADD followed_at BIGINT NULL, ADD owned_elsewhere BIGINT NULL, ADD followed_by JSON NULL`;

/** Of restores that are repeated: the moment of the newest point that was brought of each workload, by its number. */
export const broughtPoints = 'ALTER TABLE standing_restore ADD brought LONGTEXT NULL;';

/** Contents of files by their sums: each row stands for the time in which a file was so. Of a point that was scanned before there are none. */
export const seenSums = `
CREATE TABLE seen_sum (
  no BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, series_no INT UNSIGNED NOT NULL, path_hash BINARY(16) NOT NULL, path BLOB NOT NULL, size BIGINT NOT NULL, sum BINARY(32) NOT NULL,
  from_at BIGINT NOT NULL, to_at BIGINT NULL, UNIQUE KEY (series_no, path_hash, from_at), KEY (sum)
);
ALTER TABLE point_scan ADD sums_too BOOLEAN NOT NULL DEFAULT 0`;

/** Machines in a cloud that were made for a trial: by which task, and when they are to be removed. */
export const trialMachines = 'ALTER TABLE made_machine ADD task_id CHAR(36) NULL, ADD remove_at BIGINT NULL, ADD KEY (remove_at);';

/** Restores in their order, and how each time went: `steps` as they were when it began, with what became of each. */
export const sequences = `
CREATE TABLE restore_sequence (
  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, name VARCHAR(120) NOT NULL, body JSON NOT NULL, person VARCHAR(120) NOT NULL, changed_at BIGINT NOT NULL,
  removed BOOLEAN NOT NULL DEFAULT 0
);
CREATE TABLE sequence_run (
  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, sequence_id INT UNSIGNED NOT NULL, name VARCHAR(120) NOT NULL, trial BOOLEAN NOT NULL, person VARCHAR(120) NOT NULL,
  reason VARCHAR(500) NOT NULL, state VARCHAR(10) NOT NULL, at BIGINT NOT NULL, ended_at BIGINT NULL, objective_ms BIGINT NULL, steps JSON NOT NULL,
  KEY (sequence_id, at), KEY (state)
)`;
