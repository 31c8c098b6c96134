// bench/database-servers.ts
import { randomBytes } from "node:crypto";
import fs from "node:fs";

// scripts/launcher/mariadb.mjs
import { spawn, spawnSync } from "node:child_process";
import { chownSync, closeSync, existsSync, mkdirSync, openSync, readFileSync } from "node:fs";
import net from "node:net";
import path from "node:path";
var pause = (ms) => new Promise((resume) => setTimeout(resume, ms));
function freePort(wanted = 0) {
  const attempt = (port) => new Promise((resolve, reject) => {
    const server = net.createServer();
    server.once("error", reject);
    server.listen(port, "127.0.0.1", () => {
      const found = server.address().port;
      server.close(() => resolve(found));
    });
  });
  return attempt(wanted).catch(() => attempt(0));
}
function ids(user) {
  const line = readFileSync("/etc/passwd", "utf8").split("\n").find((l) => l.startsWith(`${user}:`));
  const [, , uid, gid] = line.split(":");
  return [Number(uid), Number(gid)];
}
function alive(pid) {
  try {
    process.kill(pid, 0);
    return true;
  } catch {
    return false;
  }
}
var ask = (socket, sql, encoding = "utf8") => spawnSync("mariadb", ["--no-defaults", "--skip-column-names", "--default-character-set=utf8mb4", `--socket=${socket}`], {
  input: sql,
  encoding,
  maxBuffer: 1 << 30
});
function runSql(socket, sql) {
  const done = ask(socket, sql);
  if (done.status !== 0) throw new Error(`the statements failed: ${done.stderr}`);
  return done.stdout;
}
function openAccount(socket, { name, user, password }) {
  const made = ask(
    socket,
    `CREATE DATABASE IF NOT EXISTS ${name}; CREATE USER IF NOT EXISTS '${user}'@'127.0.0.1'; ALTER USER '${user}'@'127.0.0.1' IDENTIFIED BY '${password}'; GRANT ALL ON ${name}.* TO '${user}'@'127.0.0.1'; SELECT @@port;`
  );
  if (made.status !== 0) throw new Error(`the database could not be opened: ${made.stderr}`);
  return Number(made.stdout);
}
async function startMariadb(folder, account, wantedPort = 0, log = void 0, more = []) {
  const asRoot = process.getuid() === 0;
  const data = path.join(folder, "data");
  const socket = `/tmp/lithodex-db-${process.pid}-${Math.random().toString(36).slice(2, 8)}.sock`;
  const pidFile = path.join(folder, "mariadb.pid");
  for (const sub of ["", "tmp", "data"]) mkdirSync(path.join(folder, sub), { recursive: true });
  const user = asRoot ? "mysql" : process.env.USER;
  if (asRoot) for (const sub of ["", "tmp", "data"]) chownSync(path.join(folder, sub), ...ids("mysql"));
  const leftover = existsSync(pidFile) ? Number(readFileSync(pidFile, "utf8")) : 0;
  if (leftover && alive(leftover) && readFileSync(`/proc/${leftover}/cmdline`, "latin1").includes(data)) {
    process.kill(leftover, "SIGTERM");
    for (let i = 0; i < 150 && alive(leftover); i++) await pause(100);
  }
  if (!existsSync(path.join(data, "mysql"))) {
    const made = spawnSync(
      "mariadb-install-db",
      [
        "--no-defaults",
        `--user=${user}`,
        `--datadir=${data}`,
        "--auth-root-authentication-method=socket",
        `--auth-root-socket-user=${asRoot ? "root" : user}`,
        "--skip-test-db",
        "--skip-name-resolve"
      ],
      // two that are made at the same time would take each other's temporary tables away
      { encoding: "utf8", env: { ...process.env, TMPDIR: path.join(folder, "tmp") } }
    );
    if (made.status !== 0) throw new Error(`mariadb-install-db failed: ${made.stderr || made.stdout}`);
  }
  const port = await freePort(wantedPort);
  const output = openSync(path.join(folder, "stdout.log"), "a");
  const args = [
    "--no-defaults",
    `--user=${user}`,
    `--datadir=${data}`,
    `--tmpdir=${path.join(folder, "tmp")}`,
    `--socket=${socket}`,
    `--pid-file=${pidFile}`,
    "--bind-address=127.0.0.1",
    `--port=${port}`,
    "--skip-name-resolve",
    `--log-error=${path.join(folder, "error.log")}`,
    "--character-set-server=utf8mb4",
    "--collation-server=utf8mb4_unicode_ci",
    "--default-time-zone=+00:00",
    ...log === void 0 ? ["--skip-log-bin"] : [`--log-bin=${path.join(data, "changes")}`, `--server-id=${log}`, "--binlog-format=ROW"],
    `--innodb-buffer-pool-size=${log === void 0 ? "256M" : "64M"}`,
    "--innodb-log-file-size=128M",
    "--max-connections=120",
    "--max-allowed-packet=64M",
    "--group-concat-max-len=65536",
    ...more
  ];
  const child = spawn("mariadbd", args, { stdio: ["ignore", output, output], detached: true });
  child.unref();
  closeSync(output);
  let ready = false;
  for (let i = 0; i < 300 && !ready && child.exitCode === null; i++) {
    ready = ask(socket, "SELECT 1").status === 0;
    if (!ready) await pause(100);
  }
  if (!ready) throw new Error(`MariaDB did not start; see ${path.join(folder, "error.log")}`);
  if (account) openAccount(socket, account);
  return {
    port,
    socket,
    pid: child.pid,
    async stop() {
      if (alive(child.pid)) process.kill(child.pid, "SIGTERM");
      for (let i = 0; i < 300 && alive(child.pid); i++) await pause(50);
    }
  };
}

// bench/database-servers.ts
var rowBytes = 190;
var tables = 4;
var step = 2e5;
var perTable = (bytes) => Math.floor(bytes / tables / rowBytes);
var hundredth = (bytes) => Math.floor(bytes / rowBytes / 100);
function fromOf(family, port, account, password) {
  const server = {
    kind: "database",
    family,
    host: "127.0.0.1",
    port,
    account,
    encrypted: false,
    authority: null,
    id: null,
    password
  };
  return { kind: "database", server };
}
function mariadbRows(bytes) {
  const rows = perTable(bytes);
  const lines = ["CREATE DATABASE berths; USE berths;"];
  for (let t = 0; t < tables; t++) {
    lines.push(`CREATE TABLE booking_${t} (id INT PRIMARY KEY, ship CHAR(40), at DATETIME, note VARCHAR(200));`);
    for (let from = 1; from <= rows; from += step)
      lines.push(
        `INSERT INTO booking_${t} SELECT seq, MD5(seq + ${t}), '2026-01-01' + INTERVAL seq SECOND, CONCAT('berth ', seq % 40, ' was taken by the pilot of the day, tide 1.42 m, ', SHA2(seq, 256)) FROM seq_${from}_to_${Math.min(rows, from + step - 1)};`
      );
  }
  return lines.join("\n");
}
async function mariadbBench(folder, bytes) {
  fs.mkdirSync(folder);
  const db = await startMariadb(folder, void 0, 0, 5);
  const password = randomBytes(12).toString("hex");
  runSql(db.socket, `SET GLOBAL innodb_flush_log_at_trx_commit = 2; SET SESSION sql_log_bin = 0; ${mariadbRows(bytes)}`);
  runSql(db.socket, `CREATE USER 'keeper'@'127.0.0.1' IDENTIFIED BY '${password}'; GRANT ALL ON *.* TO 'keeper'@'127.0.0.1';`);
  return {
    family: "mariadb",
    from: fromOf("mariadb", db.port, "keeper", password),
    dump: `mariadb-dump --no-defaults --socket=${db.socket} --single-transaction --master-data=2 berths`,
    dumpName: "mariadb-dump",
    change(turn) {
      const note = `CONCAT('changed ', ${turn}, note)`;
      runSql(db.socket, `UPDATE berths.booking_0 SET note = ${note} WHERE id BETWEEN 1000 AND ${1e3 + hundredth(bytes)};`);
    },
    stop: () => db.stop()
  };
}

// ../../tmp/dbprobe.ts
import fs2 from "node:fs";
var f = fs2.mkdtempSync("/tmp/dbprobe-");
fs2.chmodSync(f, 493);
var m = await mariadbBench(`${f}/m`, 4e8);
fs2.writeFileSync("/tmp/dbprobe.json", JSON.stringify({ folder: f, dump: m.dump, pid: process.pid, port: m.from.server.port, password: m.from.server.password }));
console.log("ready");
process.on("SIGTERM", async () => {
  await m.stop();
  fs2.rmSync(f, { recursive: true });
  process.exit(0);
});
setInterval(() => {
}, 1e3);
