/** Binary names, instants as milliseconds in BIGINT, sizes in bytes; tables that answer "as of" are system-versioned. */
export const first = `
CREATE TABLE person (
  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, name VARCHAR(60) NOT NULL UNIQUE, display VARCHAR(120) NOT NULL, role VARCHAR(20) NOT NULL,
  password_hash VARCHAR(300) NOT NULL, remit JSON NULL, disabled BOOLEAN NOT NULL DEFAULT FALSE, created_at BIGINT NOT NULL
);
CREATE TABLE session (sid VARCHAR(128) PRIMARY KEY, data JSON NOT NULL, expires BIGINT NOT NULL, KEY (expires));
CREATE TABLE api_token (
  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, name VARCHAR(120) NOT NULL, role VARCHAR(20) NOT NULL, hash CHAR(64) NOT NULL UNIQUE,
  created_at BIGINT NOT NULL, last_used_at BIGINT NULL
);
CREATE TABLE audit (
  seq BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, at BIGINT NOT NULL, actor VARCHAR(160) NOT NULL, action VARCHAR(60) NOT NULL,
  object VARCHAR(200) NOT NULL, detail TEXT NOT NULL, previous CHAR(64) NOT NULL, hash CHAR(64) NOT NULL
);
CREATE TRIGGER audit_keeps_rows BEFORE UPDATE ON audit FOR EACH ROW SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'audit rows are never changed';
CREATE TRIGGER audit_keeps_all BEFORE DELETE ON audit FOR EACH ROW SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'audit rows are never removed';
CREATE TABLE target (
  id CHAR(36) PRIMARY KEY, name VARCHAR(120) NOT NULL UNIQUE, folder VARCHAR(4096) NOT NULL, location VARCHAR(80) NOT NULL, created_at BIGINT NOT NULL,
  used BIGINT NULL, free BIGINT NULL, measured_at BIGINT NULL, trouble VARCHAR(500) NULL
);
CREATE TABLE source (
  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, name VARCHAR(120) NOT NULL UNIQUE, folder VARBINARY(4096) NOT NULL, location VARCHAR(80) NOT NULL,
  read_as VARCHAR(40) NULL, cross_fs BOOLEAN NOT NULL, created_at BIGINT NOT NULL
);
CREATE TABLE workload (
  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, source_id INT UNSIGNED NOT NULL, name VARCHAR(120) NOT NULL UNIQUE, created_at BIGINT NOT NULL,
  frozen BOOLEAN NOT NULL DEFAULT FALSE, FOREIGN KEY (source_id) REFERENCES source (id)
);
CREATE TABLE tag (workload_id INT UNSIGNED NOT NULL, name VARCHAR(120) NOT NULL, PRIMARY KEY (workload_id, name), KEY (name)) WITH SYSTEM VERSIONING;
CREATE TABLE policy (
  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, name VARCHAR(120) NOT NULL, body JSON NOT NULL, ended BOOLEAN NOT NULL DEFAULT FALSE
) WITH SYSTEM VERSIONING;
CREATE TABLE policy_clock (policy_id INT UNSIGNED PRIMARY KEY, last_due BIGINT NOT NULL);
CREATE TABLE assignment (
  policy_id INT UNSIGNED NOT NULL, workload_id INT UNSIGNED NOT NULL, PRIMARY KEY (policy_id, workload_id), KEY (workload_id)
) WITH SYSTEM VERSIONING;
CREATE TABLE series (
  no INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, id CHAR(36) NOT NULL UNIQUE, workload_id INT UNSIGNED NOT NULL, target_id CHAR(36) NOT NULL,
  method VARCHAR(20) NOT NULL, part VARCHAR(60) NOT NULL, last_ordinal BIGINT NOT NULL DEFAULT 0, UNIQUE (workload_id, target_id, method, part)
);
CREATE TABLE run (
  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, kind VARCHAR(12) NOT NULL, point_kind VARCHAR(12) NULL, started_by VARCHAR(12) NOT NULL, policy_id INT UNSIGNED NULL,
  name VARCHAR(160) NOT NULL, person VARCHAR(120) NOT NULL, reason VARCHAR(500) NOT NULL DEFAULT '', rules VARCHAR(500) NOT NULL DEFAULT '',
  state VARCHAR(12) NOT NULL, queued_at BIGINT NOT NULL, started_at BIGINT NULL, ended_at BIGINT NULL, keep_own JSON NULL,
  KEY (state, queued_at), KEY (queued_at), KEY (policy_id, queued_at), KEY (kind, queued_at)
);
CREATE TABLE task (
  id CHAR(36) PRIMARY KEY, run_id INT UNSIGNED NOT NULL, workload_id INT UNSIGNED NULL, series_no INT UNSIGNED NULL, type VARCHAR(12) NOT NULL,
  state VARCHAR(12) NOT NULL, attempt INT NOT NULL DEFAULT 0, mover VARCHAR(80) NULL, lease_until BIGINT NULL, queued_at BIGINT NOT NULL,
  started_at BIGINT NULL, ended_at BIGINT NULL, stop_requested BOOLEAN NOT NULL DEFAULT FALSE, work JSON NOT NULL, progress JSON NULL, phases JSON NULL,
  counts JSON NULL, cause JSON NULL, measured_ms DOUBLE NULL, measured_bytes DOUBLE NULL, ordinal BIGINT NULL,
  KEY (run_id), KEY (state, queued_at), KEY (workload_id, queued_at), KEY (series_no, state), KEY (type, ended_at), FOREIGN KEY (run_id) REFERENCES run (id)
);
CREATE TABLE log_line (
  seq BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, run_id INT UNSIGNED NOT NULL, task_id CHAR(36) NOT NULL, attempt INT NOT NULL, batch INT NOT NULL, line INT NOT NULL,
  at BIGINT NOT NULL, level VARCHAR(8) NOT NULL, code VARCHAR(40) NOT NULL, path BLOB NOT NULL, message TEXT NOT NULL,
  UNIQUE (task_id, attempt, batch, line), KEY (run_id, seq)
);
CREATE TABLE point (
  id CHAR(36) PRIMARY KEY, series_no INT UNSIGNED NOT NULL, workload_id INT UNSIGNED NOT NULL, run_id INT UNSIGNED NOT NULL, policy_id INT UNSIGNED NULL,
  ordinal BIGINT NOT NULL, moment BIGINT NOT NULL, kind VARCHAR(12) NOT NULL, builds_on CHAR(36) NULL, state VARCHAR(10) NOT NULL,
  items BIGINT NOT NULL, files BIGINT NOT NULL, bytes BIGINT NOT NULL, read_bytes BIGINT NOT NULL, fresh BIGINT NOT NULL, stored BIGINT NOT NULL,
  added BIGINT NOT NULL, changed BIGINT NOT NULL, removed BIGINT NOT NULL, warnings BIGINT NOT NULL, complete BOOLEAN NOT NULL, share DOUBLE NOT NULL,
  unusual INT NOT NULL, reasons JSON NOT NULL, suspect BOOLEAN NOT NULL, held BOOLEAN NOT NULL DEFAULT FALSE, held_why VARCHAR(500) NOT NULL DEFAULT '',
  keep_own JSON NULL, expired_at BIGINT NULL,
  UNIQUE (series_no, ordinal), KEY (workload_id, state, moment), KEY (state, moment), KEY (run_id), KEY (policy_id, state)
);
CREATE TABLE folder (series_no INT UNSIGNED NOT NULL, hash BINARY(16) NOT NULL, path MEDIUMBLOB NOT NULL, PRIMARY KEY (series_no, hash));
CREATE TABLE item (
  series_no INT UNSIGNED NOT NULL, parent BINARY(16) NOT NULL, name VARBINARY(1024) NOT NULL, from_ord BIGINT NOT NULL, to_ord BIGINT NOT NULL, ended TINYINT NOT NULL DEFAULT 0,
  kind TINYINT NOT NULL, size BIGINT NOT NULL, mtime_ns BIGINT NOT NULL, mode INT UNSIGNED NOT NULL, uid INT UNSIGNED NOT NULL, gid INT UNSIGNED NOT NULL,
  items BIGINT NOT NULL, flags INT UNSIGNED NOT NULL, content BINARY(16) NOT NULL, name_hash BIGINT NOT NULL,
  PRIMARY KEY (series_no, parent, name, from_ord), KEY (series_no, to_ord), KEY (series_no, from_ord), KEY (name_hash)
);
CREATE TABLE item_name (hash BIGINT PRIMARY KEY, folded VARBINARY(1024) NOT NULL);
CREATE TABLE load_batch (task_id CHAR(36) NOT NULL, attempt INT NOT NULL, seq INT NOT NULL, PRIMARY KEY (task_id, attempt, seq));
CREATE TABLE setting (name VARCHAR(60) PRIMARY KEY, value JSON NOT NULL);
CREATE TABLE event (id BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, at BIGINT NOT NULL, kind VARCHAR(12) NOT NULL, run_id INT UNSIGNED NULL, workload_id INT UNSIGNED NULL, task_id CHAR(36) NULL);
`;
