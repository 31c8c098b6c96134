import { runKinds, runStates, runStateWords, type RunRow } from '@lithodex/contract';
import { formatBytes, formatDuration } from '@lithodex/core';
import { Option, type Command } from 'commander';
import { CliError } from '../errors';
import { tell, type Io } from '../io';
import { atOf, instantOf } from '../moments';
import { policyNamed, workloadNamed } from '../names';
import { endStatus, endWords, followRun, isOver } from '../run-end';
import { harmless, table } from '../table';
import { listed, type Adds } from './common';

interface Filters {
  readonly kinds?: string[];
  readonly states?: string[];
  readonly from?: string;
  readonly to?: string;
  readonly workload?: string;
  readonly policy?: string;
  readonly ids?: string[];
  readonly expired?: 'yes' | 'no';
  readonly text?: string;
  readonly limit: string;
}

/** The runs that fit, newest first. */
async function runsThat(io: Io, f: Filters) {
  const moment = (text: string | undefined, end: boolean) => (text === undefined ? undefined : instantOf(text, io.zone, Date.now(), end));
  return io.server.call('listRuns', {
    query: {
      kinds: f.kinds?.join(','),
      states: f.states?.join(','),
      from: moment(f.from, false),
      to: moment(f.to, true),
      workload: f.workload === undefined ? undefined : (await workloadNamed(io.server, f.workload)).id,
      policy: f.policy === undefined ? undefined : (await policyNamed(io.server, f.policy)).id,
      ids: f.ids?.join(','),
      expired: f.expired,
      q: f.text,
      limit: f.limit,
    },
  });
}

const runRows = (io: Pick<Io, 'zone'>, rows: readonly RunRow[]): string =>
  table(
    ['>No', 'Kind', 'Name', 'State', 'Began', 'Took', '>Read', '>Stored', 'Cause'],
    rows.map((r) => [
      String(r.id),
      r.kind,
      r.name,
      runStateWords[r.state],
      r.startedAt === null ? '–' : atOf(r.startedAt, io.zone),
      r.startedAt !== null && r.endedAt !== null ? formatDuration(r.endedAt - r.startedAt) : '–',
      formatBytes(r.counts.read),
      formatBytes(r.counts.stored),
      r.cause?.message ?? '',
    ]),
    'No run fits.',
  );

/** Runs: looked at, followed, stopped, started. */
export const addRuns: Adds = (program, opens, ended) => {
  /** Says that a run was started, or waits for its end. */
  const begun = async (io: Io, runId: number, wait: boolean | undefined) => {
    if (!wait) {
      tell(io, { runId }, () => `Run ${runId} is started.`);
      return;
    }
    const run = await followRun(io, runId);
    tell(io, run, () => endWords(run));
    ended(endStatus[run.state]);
  };

  const runs = program.command('runs').description('what ran, runs and waits');
  runs
    .command('list', { isDefault: true })
    .description('list runs, newest first')
    .addOption(new Option('--kinds <kinds>', `some of ${runKinds.join(', ')}`).argParser(listed))
    .addOption(new Option('--states <states>', `some of ${runStates.join(', ')}`).argParser(listed))
    .option('--from <moment>', 'that began then or later')
    .option('--to <moment>', 'that began then or before')
    .option('--workload <workload>', 'of this workload')
    .option('--policy <policy>', 'of this policy')
    .addOption(new Option('--ids <numbers>', 'these only').argParser(listed))
    .addOption(new Option('--expired <which>', 'only those whose points have expired, or have not').choices(['yes', 'no']))
    .option('--text <text>', 'with this text')
    .option('--limit <n>', 'at most so many', '20')
    .action(async (o: Filters, command: Command) =>
      opens(command, async (io) => {
        const answer = await runsThat(io, o);
        tell(io, answer, () => runRows(io, answer.rows));
      }),
    );

  runs
    .command('show')
    .description('show one run; the exit status tells how it ended')
    .argument('<run>', 'its number')
    .action(async (id: string, _o, command: Command) =>
      opens(command, async (io) => {
        const run = await io.server.call('getRun', { id });
        tell(io, run, () =>
          [
            endWords(run),
            table(
              ['Workload', 'State', 'Mover', '>Items', '>Size', 'Cause'],
              run.tasks.map((t) => [
                t.workload.name,
                runStateWords[t.state],
                t.mover ?? '–',
                String(t.counts.items),
                formatBytes(t.counts.bytes),
                t.cause?.message ?? '',
              ]),
              '',
            ),
          ]
            .filter(Boolean)
            .join('\n\n'),
        );
        ended(endStatus[run.state]);
      }),
    );

  runs
    .command('follow')
    .description('wait until a run has ended')
    .argument('<run>', 'its number')
    .action(async (id: string, _o, command: Command) =>
      opens(command, async (io) => {
        await begun(io, Number(id), true);
      }),
    );

  runs
    .command('log')
    .description('the log of a run')
    .argument('<run>', 'its number')
    .addOption(new Option('--level <level>', 'from this level on').choices(['note', 'warning', 'fault']))
    .option('--follow', 'go on until the run has ended')
    .action(async (id: string, o: { level?: 'note' | 'warning' | 'fault'; follow?: boolean }, command: Command) =>
      opens(command, async (io) => {
        for (let cursor: string | undefined; ;) {
          const over = !o.follow || isOver((await io.server.call('getRun', { id })).state);
          const page = await io.server.call('runLog', { id, query: { level: o.level, cursor, limit: 500 } });
          for (const line of page.rows) {
            const words = [atOf(line.at, io.zone), line.level.padEnd(7), line.workload, line.code, line.path, line.message];
            io.out(io.json ? JSON.stringify(line) : words.map(harmless).join('  ').trimEnd());
          }
          cursor = page.rows.at(-1)?.seq.toString() ?? cursor;
          if (page.next === null && over) return;
          if (page.next === null) await new Promise((resume) => setTimeout(resume, 1000));
        }
      }),
    );

  for (const [name, route, words] of [
    ['stop', 'stopRun', 'It is being stopped.'],
    ['retry', 'retryRun', ''],
  ] as const)
    runs
      .command(name)
      .description(name === 'stop' ? 'stop a run' : 'run again what did not succeed in a run')
      .argument('<run>', 'its number')
      .option('--wait', 'until it has ended; the exit status tells how')
      .action(async (id: string, o: { wait?: boolean }, command: Command) =>
        opens(command, async (io) => {
          const answer = await io.server.call(route, { id });
          if ('runId' in answer) await begun(io, answer.runId, o.wait);
          else tell(io, answer, () => words);
        }),
      );

  runs
    .command('start')
    .description('run a policy now, or protect one workload once')
    .option('--policy <policy>', 'the policy')
    .option('--rule <no>', 'which of its rules; the first where none is said')
    .option('--trial', 'of a policy: look only, move nothing')
    .option('--workload <workload>', 'one workload, apart from policies')
    .option('--full', 'of a workload: a full')
    .option('--note <words>', 'of a workload: what is remembered with the point')
    .option('--wait', 'until it has ended; the exit status tells how')
    .action(
      async (
        o: { policy?: string; rule?: string; trial?: boolean; workload?: string; full?: boolean; note?: string; wait?: boolean },
        command: Command,
      ) =>
        opens(command, async (io) => {
          if ((o.policy === undefined) === (o.workload === undefined)) throw new CliError('USAGE', 'Say --policy or --workload.');
          if (o.policy !== undefined) {
            const { id } = await policyNamed(io.server, o.policy);
            const { runId } = await io.server.call('runPolicy', {
              id,
              body: { trial: o.trial ?? false, ...(o.rule && { rule: Number(o.rule) }) },
            });
            await begun(io, runId, o.wait);
            return;
          }
          const { id } = await workloadNamed(io.server, o.workload!);
          const body = { kind: o.full ? ('full' as const) : ('incremental' as const), note: o.note ?? '' };
          const { runId } = await io.server.call('protectOnce', { id, body });
          await begun(io, runId, o.wait);
        }),
    );
};
