import type { ItemChange } from '@lithodex/contract';
import { loadBatch } from '@lithodex/server';
import type { Knex } from 'knex';
import { p95, startBenchServer } from './bench-server';
import type { Result } from './result';

const runs = 20_000;
const batch = 5000;
const asks = 200;

/** Fills the catalog; resolves with the seconds that loading the items took. */
async function seed(db: Knex, items: number): Promise<number> {
  const now = Date.now();
  await db('target').insert({ id: '00000000-0000-4000-8000-000000000001', name: 'bench', folder: '/none', location: '', created_at: now });
  await db('source').insert({ id: 1, name: 'bench', folder: Buffer.from('/none'), location: '', cross_fs: false, created_at: now });
  await db('workload').insert({ id: 1, source_id: 1, name: 'bench', created_at: now });
  await db('series').insert({
    no: 1,
    id: '00000000-0000-4000-8000-000000000002',
    workload_id: 1,
    target_id: '00000000-0000-4000-8000-000000000001',
    method: 'files',
    part: '',
    last_ordinal: 10_240,
  });
  const rows = Array.from({ length: runs }, (_, i) => ({
    kind: 'backup',
    point_kind: 'incremental',
    started_by: 'schedule',
    name: `night ${i % 40}`,
    person: '',
    state: i % 50 ? 'done' : 'failed',
    queued_at: now - (runs - i) * 600_000,
    started_at: now - (runs - i) * 600_000,
    ended_at: now - (runs - i) * 600_000 + 60_000,
  }));
  for (let i = 0; i < runs; i += 1000) {
    const [first] = (await db('run').insert(rows.slice(i, i + 1000))) as [number];
    await db('task').insert(
      Array.from({ length: 1000 }, (_, k) => ({
        id: `00000000-0000-4000-9000-${String(i + k).padStart(12, '0')}`,
        run_id: first + k,
        workload_id: 1,
        series_no: 1,
        type: 'backup',
        state: 'done',
        queued_at: now,
        work: '{}',
      })),
    );
  }
  for (let ordinal = 1; ordinal <= 10; ordinal++)
    await db('point').insert({
      id: `00000000-0000-4000-a000-${String(ordinal).padStart(12, '0')}`,
      series_no: 1,
      workload_id: 1,
      run_id: ordinal,
      ordinal: ordinal * 1024,
      moment: now - (11 - ordinal) * 86_400_000,
      kind: 'incremental',
      state: 'visible',
      items,
      files: items,
      bytes: 1e9,
      read_bytes: 0,
      fresh: 0,
      stored: 0,
      added: 0,
      changed: 0,
      removed: 0,
      warnings: 0,
      complete: true,
      share: 0,
      unusual: 0,
      reasons: '[]',
      suspect: false,
    });
  const words = ['north', 'approach', 'berth', 'tide', 'roster', 'dredge', 'sonar', 'quay', 'pilot', 'gate'];
  const began = performance.now();
  for (let from = 0; from < items; from += batch) {
    const changes = Array.from({ length: batch }, (_, k): ItemChange => {
      const i = from + k;
      const folder = `area-${Math.floor(i / 100_000)}/folder-${Math.floor(i / 500)}`;
      const facts = {
        kind: 'file',
        size: i,
        mtimeNs: '1700000000000000000',
        mode: 420,
        uid: 0,
        gid: 0,
        items: 0,
        flags: 0,
        content: (i + 1).toString(16).padStart(32, '0'),
      };
      return { change: 'added', folder, name: `${words[i % 10]}-${words[(i >> 3) % 10]}-${i}.txt`, facts };
    });
    const folders = changes
      .filter((_, k) => (from + k) % 500 === 0)
      .map((c): ItemChange => ({
        ...c,
        folder: c.folder.split('/')[0]!,
        name: c.folder.split('/')[1]!,
        facts: { ...c.facts!, kind: 'folder', items: 500, content: '' },
      }));
    await db.transaction((trx) => loadBatch(trx, 1, 1024, [...changes, ...folders]));
    if ((from / batch) % 40 === 0) process.stderr.write(`  ${from} items loaded\n`);
  }
  const loaded = (performance.now() - began) / 1000;
  await db.transaction((trx) =>
    loadBatch(
      trx,
      1,
      5120,
      Array.from({ length: 5000 }, (_, i): ItemChange => ({
        change: 'changed',
        folder: `area-0/folder-${Math.floor(i / 500)}`,
        name: `${words[i % 10]}-${words[(i >> 3) % 10]}-${i}.txt`,
        facts: {
          kind: 'file',
          size: i + 1,
          mtimeNs: '1700000000000000001',
          mode: 420,
          uid: 0,
          gid: 0,
          items: 0,
          flags: 0,
          content: 'f'.repeat(32),
        },
      })),
    ),
  );
  return loaded;
}

/** Seconds that writing as many rows of the same table takes by statements with values, a thousand rows each: measured over a tenth of them. */
async function byStatements(db: Knex, items: number): Promise<number> {
  const few = items / 10;
  await db.raw('CREATE TABLE item_besides LIKE item');
  const rows = await db('item').limit(few).select<Record<string, unknown>[]>();
  const began = performance.now();
  for (let from = 0; from < few; from += batch)
    await db.transaction(async (trx) => {
      for (let at = from; at < from + batch; at += 1000)
        await trx('item_besides')
          .insert(rows.slice(at, at + 1000))
          .onConflict()
          .ignore();
    });
  return ((performance.now() - began) / 1000) * (items / few);
}

/** Answers of the API from a catalog of so many items and 20 000 runs: the 95th percentile, beside the same question put to the table without its index. */
export async function catalogBench(folder: string, items: number, report: (r: Result) => void): Promise<void> {
  const { server, ask, stop } = await startBenchServer(folder);
  try {
    const { db } = server.deps;
    const ours_s = await seed(db, items);
    const peer_s = await byStatements(db, items);
    const bench = `${Math.round(items / ours_s)} items a second loaded with their names and folders`;
    report({ bench, peer: 'the rows alone by INSERT', ours_s, peer_s, ratio: peer_s / ours_s, runs: 1, peak_mb: 0 });
    const point = '00000000-0000-4000-a000-000000000010';
    const questions: [string, () => Promise<number>, string][] = [
      [
        'tree of a folder, p95',
        () => ask('tree', point, `?path=area-3/folder-${600 + Math.floor(Math.random() * 199)}`),
        "SELECT * FROM item IGNORE INDEX (PRIMARY) WHERE series_no = 1 AND parent = 'x' AND from_ord <= 10240 AND to_ord > 10240",
      ],
      [
        'versions of a file, p95',
        () =>
          ask(
            'versions',
            '',
            `?workload=1&path=area-0/folder-0/${['north', 'approach', 'berth'][Math.floor(Math.random() * 3)]}-north-0.txt`,
          ),
        "SELECT * FROM item IGNORE INDEX (PRIMARY) WHERE series_no = 1 AND name = 'x'",
      ],
      [
        'name search, rare text, p95',
        () => ask('search', '', `?q=-${100_000 + Math.floor(Math.random() * (items - 200_000))}.txt&limit=50`),
        "SELECT * FROM item WHERE LOWER(CONVERT(name USING utf8mb4)) LIKE '%-123456.txt%'",
      ],
      [
        'name search, common text, p95',
        () => ask('search', '', '?q=berth-quay&limit=50'),
        "SELECT * FROM item WHERE LOWER(CONVERT(name USING utf8mb4)) LIKE '%berth-quay%' LIMIT 50",
      ],
      [
        'runs, newest page, p95',
        () => ask('listRuns', '', '?limit=100'),
        'SELECT * FROM run IGNORE INDEX (PRIMARY) ORDER BY id DESC LIMIT 100',
      ],
      [
        'runs, failed of one workload, p95',
        () => ask('listRuns', '', '?limit=100&states=failed&workload=1'),
        "SELECT r.* FROM run r IGNORE INDEX (PRIMARY, state) WHERE state = 'failed' ORDER BY id DESC LIMIT 100",
      ],
      [
        'workload with its points, p95',
        () => ask('workload', '1', ''),
        'SELECT COUNT(*) FROM item IGNORE INDEX (PRIMARY, series_no, series_no_2) WHERE series_no = 1 AND to_ord BETWEEN 2 AND 3',
      ],
    ];
    for (const [bench, run, scan] of questions) {
      const times: number[] = [];
      for (let i = 0; i < (bench.includes('search') ? asks / 8 : asks); i++) times.push(await run());
      const scans: number[] = [];
      for (let i = 0; i < 3; i++) {
        const began = performance.now();
        await db.raw(scan);
        scans.push((performance.now() - began) / 1000);
      }
      const [ours_s, peer_s] = [p95(times), scans.sort((a, b) => a - b)[1]!];
      report({ bench, peer: 'the same without the index', ours_s, peer_s, ratio: peer_s / ours_s, runs: times.length, peak_mb: 0 });
    }
  } finally {
    await stop();
  }
}
