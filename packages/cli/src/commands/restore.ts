import fs from 'node:fs';
import { confirm, input, select } from '../ask';
import { Option, type Command } from 'commander';
import { runStateWords } from '@lithodex/contract';
import { CliError } from '../errors';
import { tell, type Io } from '../io';
import { atOf, instantOf } from '../moments';
import { policyNamed, workloadNamed } from '../names';
import { carryOut, plan } from '../restore/carry-out';
import {
  conflictWords,
  destinationOf,
  picksOfName,
  picksOfPaths,
  picksOfPolicy,
  picksOfRun,
  pointAt,
  type Conflict,
  type Picked,
} from '../restore/picked';
import { isStopped, planWords } from '../restore/plan-words';
import { restoreShell } from '../restore/shell';
import type { Adds } from './common';

interface Given {
  readonly moment?: string;
  readonly point?: string;
  readonly run?: string;
  readonly policy?: string;
  readonly name?: string;
  readonly path?: string[];
  readonly pathsFile?: string;
  readonly to: string;
  readonly exists: Conflict;
  readonly out?: string;
  readonly reason?: string;
  readonly start?: boolean;
  readonly plan?: boolean;
  readonly yes?: boolean;
  readonly wait: boolean;
}

const several = (value: string, before: string[] = []) => [...before, value];

/** Lines of a list of paths. Throws USAGE. */
function linesOf(file: string): string[] {
  const lines = fs
    .readFileSync(file === '-' ? 0 : file, 'utf8')
    .split('\n')
    .map((l) => l.trim())
    .filter(Boolean);
  if (!lines.length) throw new CliError('USAGE', `${file} names nothing.`);
  return lines;
}

/** What was picked by arguments; undefined where nothing was. Throws where something is not there. */
async function pickedBy(io: Io, workload: string | undefined, o: Given): Promise<readonly Picked[] | undefined> {
  const { server } = io;
  const moment = o.moment === undefined ? undefined : instantOf(o.moment, io.zone, Date.now(), true);
  const of = workload === undefined ? undefined : await server.call('workload', { id: (await workloadNamed(server, workload)).id });
  const paths = [...(o.path ?? []), ...(o.pathsFile ? linesOf(o.pathsFile) : [])];
  if (o.run !== undefined) return picksOfRun(server, Number(o.run));
  if (o.policy !== undefined) return picksOfPolicy(server, (await policyNamed(server, o.policy)).id, moment);
  if (o.name !== undefined) {
    const found = await picksOfName(server, o.name, of?.id);
    if (!found.length) throw new CliError('NOT_FOUND', `Nothing is called ${o.name}.`);
    return found;
  }
  if (of && (moment !== undefined || o.point !== undefined || o.path || o.yes || o.plan)) {
    const point = o.point === undefined ? pointAt(of, moment) : of.pointList.find((p) => p.id === o.point);
    if (!point) throw new CliError('NOT_FOUND', `${of.name} has no such point.`);
    if (o.pathsFile === undefined)
      return (paths.length ? paths : ['']).map((p) => ({
        pointId: point.id,
        path: p.replace(/^\/+|\/+$/g, ''),
        workload: of.name,
        moment: point.moment,
      }));
  }
  if (!paths.length) return undefined;
  const { picks, missing } = await picksOfPaths(server, paths, of?.id);
  for (const line of missing) io.note(`Nothing is known of ${line}`);
  if (!picks.length) throw new CliError('NOT_FOUND', 'Nothing of the list is known.');
  return picks;
}

/** By what somebody wants to find it, asked. */
async function ask(io: Io, o: Given): Promise<number> {
  const settings = { destination: destinationOf(o.to), conflict: o.exists, out: o.out };
  const way = await select({
    message: 'How do you find what is to come back?',
    choices: [
      { name: 'one of the last 20 runs', value: 'recent' },
      { name: 'a workload (a server, a machine, a person …), and a moment', value: 'workload' },
      { name: 'by name, over all points', value: 'name' },
      { name: 'a list of paths in a file', value: 'paths' },
      { name: 'all that a policy protects', value: 'policy' },
    ],
  });
  switch (way) {
    case 'recent': {
      const { rows } = await io.server.call('listRuns', { query: { kinds: 'backup', expired: 'no', limit: 20 } });
      if (!rows.length) throw new CliError('NOT_FOUND', 'Nothing has run yet.');
      const id = await select({
        message: 'Which run?',
        choices: rows.map((r) => ({
          value: r.id,
          name: `${r.id}  ${r.name}  ${runStateWords[r.state]}  ${atOf(r.startedAt ?? r.queuedAt, io.zone)}`,
        })),
      });
      const picks = await picksOfRun(io.server, id);
      const [only, ...others] = picks;
      return restoreShell(io, others.length ? picks : [], settings, only?.workload, only && new Date(only.moment + 60_000).toISOString());
    }
    case 'workload': {
      const name = await input({ message: 'Workload', validate: (v) => v.trim() !== '' });
      const moment = await input({ message: 'As of when? (empty for the newest point)' });
      return restoreShell(io, [], settings, name.trim(), moment.trim() || undefined);
    }
    case 'name': {
      const picks = await picksOfName(
        io.server,
        await input({ message: 'Name, or part of it', validate: (v) => v.trim().length >= 2 || 'two characters or more' }),
        undefined,
      );
      return restoreShell(io, picks, settings, picks[0]?.workload);
    }
    case 'paths': {
      const { picks, missing } = await picksOfPaths(
        io.server,
        linesOf(await input({ message: 'File with a path in each line' })),
        undefined,
      );
      for (const line of missing) io.note(`Nothing is known of ${line}`);
      return restoreShell(io, picks, settings, picks[0]?.workload);
    }
    default: {
      const policy = await policyNamed(io.server, await input({ message: 'Policy' }));
      const moment = (await input({ message: 'As of when? (empty for the newest points)' })).trim();
      const picks = await picksOfPolicy(io.server, policy.id, moment ? instantOf(moment, io.zone, Date.now(), true) : undefined);
      return restoreShell(io, picks, settings, picks[0]?.workload, moment || undefined);
    }
  }
}

/** Bringing something back, by arguments or asked for line by line. */
export const addRestore: Adds = (program, opens, ended) => {
  program
    .command('restore')
    .description('bring something back; without saying what, it is asked for line by line')
    .argument('[workload]', 'its name, source/name or number')
    .option('--moment <moment>', 'as of then: the newest point that is not younger')
    .option('--point <id>', 'of this point')
    .option('--run <number>', 'all that a run made points of')
    .option('--policy <policy>', 'all that a policy protects')
    .option('--name <text>', 'everything of this name, over all points, in its newest version')
    .option('--path <path>', 'only this path of the workload (again for more)', several)
    .option('--paths-file <file>', 'what the lines of a file name, in its newest version; - for what comes in')
    .option(
      '--to <destination>',
      'original, a folder of the mover such as /srv/returned, tar, zip or file for a download, or JSON as the API takes it',
      'original',
    )
    .addOption(new Option('--exists <rule>', 'what becomes of what exists').choices(Object.keys(conflictWords)).default('leave'))
    .option('--out <file>', 'where a download goes')
    .option('--reason <words>', 'why; it stands in the audit trail')
    .option('--start', 'of machines: start them once they are back')
    .option('--plan', 'only say what would happen')
    .option('--yes', 'without being asked')
    .option('--no-wait', 'do not wait until it has ended')
    .addHelpText(
      'after',
      `
Exit status: 0 done, 3 parts missing, 4 failed, 5 stopped or not started.

  lithodex cli restore chart-archive --path 2026/tides.tif --moment "2026-11-30 03:00" --reason "overwritten" --yes
  lithodex cli restore --name tariffs-2026.ods --to /srv/returned --reason "asked for by the office" --yes
  lithodex cli restore harbour-office --path letters --to zip --out letters.zip --reason "for the auditor" --yes
  lithodex cli restore`,
    )
    .action(async (workload: string | undefined, o: Given, command: Command) =>
      opens(command, async (io) => {
        const picks = await pickedBy(io, workload, o);
        if (!picks) {
          if (!io.interactive)
            throw new CliError(
              'USAGE',
              'Say what is to come back: a workload with --moment or --path, --run, --policy, --name, --paths-file.',
            );
          ended(
            workload === undefined
              ? await ask(io, o)
              : await restoreShell(io, [], { destination: destinationOf(o.to), conflict: o.exists, out: o.out }, workload),
          );
          return;
        }
        const wanted = {
          picks,
          destination: destinationOf(o.to),
          conflict: o.exists,
          ...(o.start && { start: true }),
          ...(o.out && { out: o.out }),
        };
        const planned = await plan(io, wanted);
        if (o.plan) {
          tell(io, planned, () => planWords(planned, io.zone));
          if (isStopped(planned)) ended(1);
          return;
        }
        io.note(planWords(planned, io.zone));
        if (isStopped(planned)) throw new CliError('REFUSED', 'Something stands in the way. Nothing was changed.');
        const reason =
          o.reason ??
          (io.interactive ? await input({ message: 'Why?', validate: (v) => v.trim().length >= 3 || 'a few words' }) : undefined);
        if (reason === undefined) throw new CliError('USAGE', 'Say why with --reason.');
        if (!o.yes && (!io.interactive || !(await confirm({ message: 'Start it?', default: false }))))
          throw new CliError(
            'CANCELLED',
            io.interactive ? 'Nothing was changed.' : 'Nobody is here to be asked: say --yes. Nothing was changed.',
          );
        ended(await carryOut(io, wanted, reason, planned, o.wait));
      }),
    );
};
