import mysql from './node_modules/mysql2/index.js';
import net from 'node:net';
import { EventEmitter } from 'node:events';
import { readFileSync } from 'node:fs';
const { port, password } = JSON.parse(readFileSync('/tmp/dbprobe.json'));
const mode = process.argv[2] ?? 'format';
const c = mysql.createConnection({ host: '127.0.0.1', port, user: 'keeper', password, charset: 'utf8mb4' });
await new Promise((r, j) => c.query('SET net_write_timeout=600', (e) => (e ? j(e) : r())));
const t0 = performance.now(); const cpu0 = process.cpuUsage();
const esc = new Uint8Array(256); for (const [k, v] of [[0, 48], [10, 110], [13, 114], [92, 92], [39, 39], [34, 34], [26, 90]]) esc[k] = v;
let out = 0, rows = 0;
class Rows extends EventEmitter {
  constructor(sql, table) { super(); this.sql = sql; this.state = 0; this.left = 0; this.buf = Buffer.allocUnsafe(8 << 20); this.at = 0; this.prefix = Buffer.from(`INSERT INTO \`${table}\` VALUES (`); this.types = []; }
  execute(p, conn) {
    if (this.state === 0) { conn.sequenceId = 0; const q = Buffer.from(this.sql); const pk = Buffer.allocUnsafe(5 + q.length); pk.writeUIntLE(q.length + 1, 0, 3); pk[3] = 0; pk[4] = 3; q.copy(pk, 5); conn.stream.write(pk); conn._bumpSequenceId(1); this.state = 1; return false; }
    if (this.state === 1) { this.left = this.cols = p.buffer[p.start + 4]; this.state = 2; return false; }
    if (this.state === 2) {
      if (this.left-- > 0) { p.skip?.(0); // column def
        // catalog, schema, table, org_table, name, org_name lenenc strings
        let at = p.start + 4; for (let i = 0; i < 6; i++) at += 1 + p.buffer[at]; at += 1; const type = p.buffer[at + 2 + 4]; this.types.push(type); return false; }
      this.state = 3; return false; // EOF
    }
    const b = p.buffer; let at = p.start + 4;
    if (b[at] === 0xfe && p.end - at < 9) { out += this.at; this.emit('end'); return true; }
    rows++;
    if (mode === 'count') return false;
    let o = this.at; const w = this.buf;
    if (o + (p.end - at) * 2 + 200 > w.length) { out += o; o = 0; }
    const pre = this.prefix; for (let i = 0; i < pre.length; i++) w[o++] = pre[i];
    for (let col = 0; col < this.cols; col++) {
      if (col) w[o++] = 44;
      let len = b[at++];
      if (len === 251) { w[o++] = 78; w[o++] = 85; w[o++] = 76; w[o++] = 76; continue; }
      if (len === 252) { len = b[at] | (b[at + 1] << 8); at += 2; } else if (len === 253) { len = b[at] | (b[at + 1] << 8) | (b[at + 2] << 16); at += 3; }
      const end = at + len;
      if (this.types[col] === 3) { while (at < end) w[o++] = b[at++]; continue; }
      w[o++] = 39;
      while (at < end) { const ch = b[at++]; const e = esc[ch]; if (e !== 0) { w[o++] = 92; w[o++] = e; } else w[o++] = ch; }
      w[o++] = 39;
    }
    w[o++] = 41; w[o++] = 59; w[o++] = 10;
    this.at = o;
    return false;
  }
}
for (let t = 0; t < 4; t++) await new Promise((r) => { const cmd = new Rows(`SELECT * FROM berths.booking_${t}`, `booking_${t}`); cmd.on('end', r); c.addCommand(cmd); });
const u = process.cpuUsage(cpu0);
console.log(mode, rows, 'rows', (out / 1e6).toFixed(0), 'MB', ((performance.now() - t0) / 1000).toFixed(2), 's wall; cpu', ((u.user + u.system) / 1e6).toFixed(2));
c.destroy();
