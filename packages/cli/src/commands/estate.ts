import { estateShows, type WorkloadRow } from '@lithodex/contract';
import { formatBytes, formatCount } from '@lithodex/core';
import { Option, type Command } from 'commander';
import { tell } from '../io';
import { atOf, instantOf } from '../moments';
import { workloadNamed } from '../names';
import { pairs, table } from '../table';
import type { Adds } from './common';

const coverage: Readonly<Record<WorkloadRow['coverage'], string>> = {
  none: 'unprotected',
  matched: 'no point yet',
  protected: 'protected',
  suspect: 'suspect',
};
const policiesOf = (w: WorkloadRow) => w.policies.map((p) => p.name).join(', ') || '–';

/** What is protected, and what it has points of. */
export const addEstate: Adds = (program, opens) => {
  program
    .command('estate')
    .alias('workloads')
    .description('list workloads, what needs protection first')
    .argument('[text]', 'only those with this text in their name')
    .addOption(new Option('--show <which>', 'only such').choices(estateShows))
    .option('--tag <tag>', 'only those with this tag')
    .option('--at <moment>', 'as it was then')
    .option('--limit <n>', 'at most so many', '200')
    .action(
      async (
        text: string | undefined,
        o: { show?: (typeof estateShows)[number]; tag?: string; at?: string; limit: string },
        command: Command,
      ) =>
        opens(command, async (io) => {
          const at = o.at === undefined ? undefined : instantOf(o.at, io.zone, Date.now(), true);
          const answer = await io.server.call('estate', { query: { q: text, show: o.show, tag: o.tag, at, limit: o.limit } });
          tell(io, answer, () => {
            const rows = answer.workloads.map((w) => [
              String(w.id),
              w.name,
              w.kind,
              w.source.name,
              w.late ? `${coverage[w.coverage]}, late` : coverage[w.coverage],
              w.newestPoint ? atOf(w.newestPoint.moment, io.zone) : '–',
              String(w.points),
              policiesOf(w),
            ]);
            const more = answer.total > rows.length ? `\n${formatCount(answer.total - rows.length)} more: say --limit.` : '';
            return `${table(['>No', 'Workload', 'Kind', 'Source', 'State', 'Newest point', '>Points', 'Policies'], rows, 'No workload fits.')}${more}`;
          });
        }),
    );

  program
    .command('workload')
    .description('show one workload')
    .argument('<workload>', 'its name, source/name or number')
    .action(async (name: string, _o, command: Command) =>
      opens(command, async (io) => {
        const { id } = await workloadNamed(io.server, name);
        const w = await io.server.call('workload', { id });
        tell(io, w, () =>
          pairs([
            ['Workload', `${w.name} (${w.id})`],
            ['Kind', w.kind],
            ['Source', w.source.name],
            ['State', w.late ? `${coverage[w.coverage]}, late` : coverage[w.coverage]],
            ['Policies', policiesOf(w)],
            ['Tags', w.tags.join(', ') || '–'],
            ['Points', String(w.points)],
            ['Newest point', w.newestPoint ? `${atOf(w.newestPoint.moment, io.zone)}, ${formatBytes(w.newestPoint.bytes)}` : '–'],
            ['Stored for it', formatBytes(w.storedBytes)],
          ]),
        );
      }),
    );

  const points = program.command('points').description('list the points of a workload, newest last');
  points
    .argument('<workload>', 'its name, source/name or number')
    .option('--expired', 'those that have expired too')
    .action(async (name: string, o: { expired?: boolean }, command: Command) =>
      opens(command, async (io) => {
        const { id } = await workloadNamed(io.server, name);
        const { pointList } = await io.server.call('workload', { id });
        const shown = pointList.filter((p) => (o.expired ?? false) || !p.expired).sort((a, b) => a.moment - b.moment);
        tell(io, shown, () =>
          table(
            ['Moment', 'Kind', '>Items', '>Size', 'Stands on', 'Remarks', 'Point'],
            shown.map((p) => [
              atOf(p.moment, io.zone),
              p.kind,
              formatCount(p.items),
              formatBytes(p.bytes),
              p.copies.map((c) => c.target).join(', ') || (p.onStorage?.storage ?? '–'),
              [p.suspect ? 'suspect' : '', p.held ? 'held' : '', p.complete ? '' : 'parts missing', p.expired ? 'expired' : '']
                .filter(Boolean)
                .join(', '),
              p.id,
            ]),
            'No points.',
          ),
        );
      }),
    );

  program
    .command('hold')
    .description('keep a point whatever its policy says')
    .argument('<point>', 'its id')
    .requiredOption('--reason <words>', 'why')
    .action(async (id: string, o: { reason: string }, command: Command) =>
      opens(command, async (io) => {
        tell(io, await io.server.call('holdPoint', { id, body: { reason: o.reason } }), () => 'It is held.');
      }),
    );

  program
    .command('release')
    .description('let a held point go as its policy says')
    .argument('<point>', 'its id')
    .action(async (id: string, _o, command: Command) =>
      opens(command, async (io) => {
        const answer = await io.server.call('releasePoint', { id });
        tell(io, answer, () =>
          answer.request === null ? 'It is held no more.' : `A second person is asked first (request ${answer.request}).`,
        );
      }),
    );

  program
    .command('find')
    .description('find items by name over all points')
    .argument('<text>', 'part of the name')
    .option('--workload <workload>', 'only in this one')
    .option('--limit <n>', 'at most so many', '50')
    .action(async (q: string, o: { workload?: string; limit: string }, command: Command) =>
      opens(command, async (io) => {
        const workload = o.workload === undefined ? undefined : (await workloadNamed(io.server, o.workload)).id;
        const answer = await io.server.call('search', { query: { q, workload, limit: o.limit } });
        tell(io, answer, () =>
          table(
            ['Workload', 'Path', '>Size', '>Versions', 'Last seen', ''],
            answer.rows.map((r) => [
              r.workload.name,
              r.path,
              formatBytes(r.size),
              String(r.versions),
              atOf(r.lastSeen, io.zone),
              r.stillThere ? '' : 'gone',
            ]),
            'Nothing of that name.',
          ),
        );
      }),
    );
};
