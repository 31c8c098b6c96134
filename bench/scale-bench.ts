import { reportNames, type RouteName } from '@lithodex/contract';
import type { Knex } from 'knex';
import { p95, startBenchServer } from './bench-server';
import type { Kept } from './result';
import { builtWeb, screenBench } from './screen-bench';

const workloads = 10_000;
const nights = 100;
const policies = 40;
const runs = 100_000;
const dayMs = 86_400_000;
const bound = 300;
const asks = 40;
/** Of the estate as it was. */
const momentBound = 500;
/** Of what reads a million points, which somebody asks for now and then. */
const reportBound = 3000;
const target = '00000000-0000-4000-8000-000000000001';

/** Ten thousand machines on hosts of ten clusters, a million points of a hundred nights, a hundred thousand runs. */
async function seed(db: Knex, now: number): Promise<void> {
  const first = now - nights * dayMs;
  const raw = async (sql: string) => {
    await db.raw(sql);
  };
  await db('target').insert({ id: target, name: 'bench', folder: '/none', location: 'Cellar', created_at: first });
  await db('source').insert({
    id: 1,
    name: 'bench',
    kind: 'platform',
    folder: Buffer.alloc(0),
    address: '{"endpoint":"http://none","by":"password","account":"x"}',
    location: '',
    cross_fs: false,
    created_at: first,
  });
  await raw(`INSERT INTO workload (id, source_id, name, created_at, kind, outer_id, facts)
    SELECT seq, 1, CONCAT('machine-', LPAD(seq, 5, '0')), ${first}, 'machine', CONCAT('m-', seq), JSON_OBJECT(
      'cluster', CONCAT('cluster-', seq % 10), 'location', 'Harbour office', 'host', CONCAT('host-', seq % 200), 'folder', CONCAT('/Area ', seq % 25, '/Group ', seq % 500),
      'networks', JSON_ARRAY('quay'), 'template', FALSE, 'running', TRUE, 'helper', TRUE, 'system', 'Linux', 'processors', 2, 'memory', 4096,
      'disks', JSON_ARRAY(JSON_OBJECT('id', CONCAT('d-', seq), 'label', 'system', 'size', 40000000000, 'storage', CONCAT('storage-', seq % 60)))) FROM seq_1_to_${workloads}`);
  await raw(
    `INSERT INTO tag (workload_id, name, given) SELECT seq, CONCAT('group: ', seq % ${policies}), FALSE FROM seq_1_to_${workloads}`,
  );
  await raw(`INSERT INTO tag (workload_id, name, given) SELECT seq, CONCAT('class: ', seq % 7), FALSE FROM seq_1_to_${workloads}`);
  for (let p = 0; p < policies; p++) {
    const body = {
      name: `Group ${p}`,
      workloads: [],
      tags: p % 2 ? [`group: ${p}`] : [],
      rule: p % 2 ? '' : `tag "group: ${p}" and kind machine`,
      kind: 'incremental',
      schedule: { every: 'day', at: `2${p % 4}:00` },
      zone: 'Europe/Oslo',
      keep: { by: 'days', days: nights },
      targetId: target,
      objectiveHours: 26,
    };
    await db('policy').insert({ id: p + 1, name: body.name, body: JSON.stringify(body) });
  }
  // a hundred workloads belong to no policy
  await raw(
    `INSERT INTO assignment (policy_id, workload_id) SELECT seq % ${policies} + 1, seq FROM seq_1_to_${workloads} WHERE seq % 100 <> 0`,
  );
  await raw(`INSERT INTO series (no, id, workload_id, target_id, method, part, last_ordinal)
    SELECT seq, CONCAT('00000000-0000-4000-8001-', LPAD(seq, 12, '0')), seq, '${target}', 'files', '', ${nights * 1024} FROM seq_1_to_${workloads}`);
  const perNight = policies;
  await raw(`INSERT INTO run (id, kind, point_kind, started_by, policy_id, name, person, state, queued_at, started_at, ended_at)
    SELECT seq, 'backup', 'incremental', 'schedule', (seq - 1) % ${perNight} + 1, CONCAT('Group ', (seq - 1) % ${perNight}), '', IF(seq % 50, 'done', 'failed'),
      ${first} + FLOOR((seq - 1) / ${perNight}) * ${dayMs}, ${first} + FLOOR((seq - 1) / ${perNight}) * ${dayMs}, ${first} + FLOOR((seq - 1) / ${perNight}) * ${dayMs} + 3600000
    FROM seq_1_to_${perNight * nights}`);
  await raw(`INSERT INTO run (kind, started_by, name, person, state, queued_at, started_at, ended_at)
    SELECT IF(seq % 40, 'restore', ELT(seq % 3 + 1, 'prune', 'copy', 'verify')), 'hand', IF(seq % 40, CONCAT('by hand ', seq), CONCAT('Care ', seq % 3)), 'eva', 'done', ${first} + seq * 86000, ${first} + seq * 86000, ${first} + seq * 86000 + 60000
    FROM seq_1_to_${runs - perNight * nights}`);
  const counts = `'{"items":3,"files":2,"bytes":40000000000,"read":400000000,"stored":200000000,"warnings":0,"failed":0,"missing":0}'`;
  for (let night = 0; night < nights; night++) {
    const at = first + night * dayMs;
    const runOf = `${night * perNight} + seq % ${policies} + 1`;
    const id = `CONCAT('${String(night).padStart(8, '0')}-0000-4000-9000-', LPAD(seq, 12, '0'))`;
    await raw(`INSERT INTO task (id, run_id, workload_id, series_no, type, state, attempt, mover, queued_at, started_at, ended_at, work, counts, measured_ms, measured_bytes)
      SELECT ${id}, ${runOf}, seq, seq, 'backup', IF((seq + ${night}) % 500, 'done', 'failed'), 1, 'mover-1', ${at}, ${at} + seq * 300, ${at} + seq * 300 + 60000, '{"targetId":"${target}"}',
      ${counts}, 60000, 400000000 FROM seq_1_to_${workloads}`);
    await raw(`INSERT INTO point (id, series_no, workload_id, run_id, policy_id, ordinal, moment, kind, builds_on, state, items, files, bytes, read_bytes, fresh, stored, added, changed, removed,
      warnings, complete, share, unusual, reasons, suspect)
      SELECT ${id}, seq, seq, ${runOf}, seq % ${policies} + 1, ${(night + 1) * 1024}, ${at}, 'incremental', NULL, 'visible', 3, 2, 40000000000, 400000000, 300000000, 200000000, 0, 600, 0,
      0, TRUE, 0.01, 0, '[]', FALSE FROM seq_1_to_${workloads}`);
    if (night % 20 === 19) process.stderr.write(`  ${night + 1} nights written\n`);
  }
  await raw(`UPDATE run SET sums = JSON_OBJECT('workloads', JSON_ARRAY(JSON_OBJECT('id', 1, 'name', 'machine-00001')), 'workloadCount', 250,
    'counts', JSON_OBJECT('items', 750, 'files', 500, 'bytes', 1, 'read', 1, 'stored', 1, 'warnings', 0, 'failed', 0), 'cause', NULL)`);
  await raw(`INSERT INTO workload_points
    SELECT workload_id, COUNT(*), MIN(moment), 0, MAX(id), MAX(moment), 40000000000, 3, SUM(bytes), SUM(stored) FROM point GROUP BY workload_id`);
  await raw('INSERT INTO policy_points SELECT workload_id, policy_id, COUNT(*) FROM point GROUP BY workload_id, policy_id');
  for (const table of ['run', 'task', 'point', 'workload', 'tag', 'assignment']) await raw(`ANALYZE TABLE ${table}`);
}

/** Answers of the API and screens at the size of a large site; the 95th percentile of the answers has to stay below 300 ms. */
export async function scaleBench(folder: string, keeps: (k: Kept) => void): Promise<void> {
  const bench = await startBenchServer(folder, builtWeb);
  const { server, ask, stop } = bench;
  try {
    const now = Date.now();
    await seed(server.deps.db, now);
    const any = (n: number) => Math.floor(Math.random() * n);
    const changed = async () => {
      await server.deps.events.emit('run');
    };
    const questions: [string, RouteName, () => string, (() => string)?, (() => Promise<void>)?][] = [
      ['watch', 'watch', () => ''],
      ['watch, after a change', 'watch', () => '', undefined, changed],
      ['estate, after a change', 'estate', () => '?by=host', undefined, changed],
      ['ledge', 'ledge', () => ''],
      ...(['platform', 'host', 'folder', 'storage', 'tag', 'kind'] as const).map((by): [string, RouteName, () => string] => [
        `estate by ${by}`,
        'estate',
        () => `?by=${by}&offset=${any(40) * 200}`,
      ]),
      ['estate, one host', 'estate', () => `?by=host&in=cluster-${any(10)}`],
      ['estate by text', 'estate', () => `?q=${10_000 - any(9000)}`],
      ['estate, unprotected', 'estate', () => '?show=none'],
      ['runs, newest', 'listRuns', () => '?limit=200'],
      ['runs, failed', 'listRuns', () => '?states=failed&limit=200'],
      ['runs of a workload', 'listRuns', () => `?workload=${1 + any(workloads)}&limit=200`],
      ['runs of a policy', 'listRuns', () => `?policy=${1 + any(policies)}&limit=200`],
      ['runs, by kind and time', 'listRuns', () => `?kinds=restore&from=${now - 30 * dayMs}&to=${now - any(20) * dayMs}`],
      ['runs by text', 'listRuns', () => `?q=machine-0${1000 + any(8000)}`],
      ['a run over 250 workloads', 'getRun', () => '', () => String(policies * nights - any(2000))],
      ['calendar, a month', 'runCalendar', () => `?from=${now}&to=${now + 31 * dayMs}`],
      ['calendar, the month that was', 'runCalendar', () => `?from=${now - 31 * dayMs}&to=${now - any(1000)}`],
      ['a workload', 'workload', () => '', () => String(1 + any(workloads))],
      ['policies', 'listPolicies', () => ''],
    ];
    const timed = async (count: number, name: RouteName, query: () => string, id?: () => string, before?: () => Promise<void>) => {
      const times: number[] = [];
      // once before, so that what is measured does not begin with code that has never run
      await ask(name, id?.() ?? '', query());
      for (let i = 0; i < count; i++) {
        await before?.();
        times.push((await ask(name, id?.() ?? '', query())) * 1000);
      }
      return times;
    };
    for (const [question, ...how] of questions)
      keeps({ bench: `${question}, p95`, found: p95(await timed(asks, ...how)), below: bound, unit: 'ms' });
    const moment = () => `?by=host&at=${now - any(90) * dayMs - any(1000)}`;
    keeps({ bench: 'estate as of a moment', found: Math.max(...(await timed(8, 'estate', moment))), below: momentBound, unit: 'ms' });
    for (const name of reportNames) {
      const month = () => `?from=${now - 30 * dayMs - any(1000)}&to=${now}`;
      keeps({
        bench: `report of ${name}, a month`,
        found: Math.max(...(await timed(3, 'report', month, () => name))),
        below: reportBound,
        unit: 'ms',
      });
    }
    await screenBench(bench, keeps);
  } finally {
    await stop();
  }
}
