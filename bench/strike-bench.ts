import { p95, startBenchServer } from './bench-server';
import type { Kept } from './result';

const workloads = 500;
const points = 100;
const targets = 6;
const asks = 20;
const dayMs = 86_400_000;
const boundMs = 1000;

const targetId = (n: string) => `CONCAT('00000000-0000-4000-8000-', LPAD(${n}, 12, '0'))`;

/** Strikes out parts of an estate of 500 workloads, each with 100 points on two or three of six targets. */
export async function strikeBench(folder: string, keeps: (k: Kept) => void): Promise<void> {
  const { server, ask, stop } = await startBenchServer(folder);
  const { db } = server.deps;
  const raw = async (sql: string) => {
    await db.raw(sql);
  };
  try {
    const first = Date.now() - points * dayMs;
    await raw(`INSERT INTO target (id, name, folder, location, created_at)
      SELECT ${targetId('seq')}, CONCAT('target-', seq), '/none', CONCAT('Site ', seq % 3), ${first} FROM seq_1_to_${targets}`);
    await raw(`INSERT INTO source (id, name, folder, location, cross_fs, created_at)
      SELECT seq, CONCAT('host-', seq), '/none', CONCAT('Site ', seq % 3), FALSE, ${first} FROM seq_1_to_50`);
    await raw(
      `INSERT INTO workload (id, source_id, name, created_at) SELECT seq, seq % 50 + 1, CONCAT('workload-', seq), ${first} FROM seq_1_to_${workloads}`,
    );
    await raw(`INSERT INTO series (no, id, workload_id, target_id, method, part, last_ordinal)
      SELECT seq, CONCAT('00000000-0000-4000-8001-', LPAD(seq, 12, '0')), seq, ${targetId(`seq % ${targets} + 1`)}, 'files', '', 0 FROM seq_1_to_${workloads}`);
    const pointId = "CONCAT(LPAD(n.seq, 8, '0'), '-0000-4000-9000-', LPAD(w.seq, 12, '0'))";
    const each = `FROM seq_1_to_${workloads} w JOIN seq_1_to_${points} n`;
    await raw(`INSERT INTO point (id, series_no, workload_id, run_id, ordinal, moment, kind, state, items, files, bytes, read_bytes, fresh, stored, added, changed, removed,
      warnings, complete, share, unusual, reasons, suspect)
      SELECT ${pointId}, w.seq, w.seq, 1, n.seq * 1024, ${first} + n.seq * ${dayMs}, 'incremental', 'visible', 3, 2, 40000000000, 4, 3, 2, 0, 6, 0, 0, TRUE, 0.01, 0, '[]', FALSE ${each}`);
    for (const [copy, which] of [
      [1, '1'],
      [2, 'n.seq % 2 = 0'],
      [3, 'w.seq % 3 = 0'],
    ] as const)
      await raw(`INSERT INTO copy (point_id, target_id, state, made_at, stored, keep_rule)
        SELECT ${pointId}, ${targetId(`(w.seq + ${copy}) % ${targets} + 1`)}, 'present', ${first}, 2, '{"by":"hand"}' ${each} WHERE ${which}`);
    for (const table of ['point', 'copy', 'workload']) await raw(`ANALYZE TABLE ${table}`);
    const body = JSON.stringify({ sites: ['Site 1'], keys: ['00000000-0000-4000-8000-000000000003'], systems: [4, 5] });
    const times: number[] = [];
    await ask('strikeOut', '', '', body);
    for (let i = 0; i < asks; i++) times.push((await ask('strikeOut', '', '', body)) * 1000);
    keeps({ bench: `strike it out, ${workloads} workloads, p95`, found: p95(times), below: boundMs, unit: 'ms' });
  } finally {
    await stop();
  }
}
