import type { Command } from 'commander';
import { atOf } from '../moments';
import fs from 'node:fs';
import { text as textOf } from 'node:stream/consumers';
import type { Consequences } from '@lithodex/contract';
import { countOf, formatFirst } from '@lithodex/core';
import { confirm } from '../ask';
import { CliError } from '../errors';
import { tell, type Io } from '../io';
import { policyNamed } from '../names';
import { harmless, table } from '../table';
import type { Adds } from './common';

const mostBytes = 200_000;

/** The text of a file, or of what comes in where it is "-". Throws USAGE. */
async function textIn(file: string): Promise<string> {
  if (file === '-') return textOf(process.stdin);
  if (!fs.existsSync(file)) throw new CliError('USAGE', `${file} is not there.`);
  if (fs.statSync(file).size > mostBytes) throw new CliError('USAGE', `${file} is too large for a policy.`);
  return fs.readFileSync(file, 'utf8');
}

/** What a policy would do, in words; '' at a line's end for nothing to say. */
export function consequenceWords(c: Consequences, zone: string): string {
  const names = (rows: readonly { name: string }[]) =>
    formatFirst(
      rows.map((r) => r.name),
      6,
    );
  const lines = [
    `It protects ${countOf(c.matches.length, 'workload')}${c.matches.length ? `: ${names(c.matches)}` : ''}.`,
    c.gone.length ? `No more: ${names(c.gone)}.` : '',
    c.nextRuns[0] === undefined ? 'It runs by hand only.' : `It runs next at ${atOf(c.nextRuns[0], zone)}.`,
    c.settled.points === null ? '' : `Once settled it keeps ${countOf(c.settled.points, 'point')} of each workload.`,
    c.deletes.points ? `At once it lets ${countOf(c.deletes.points, 'point')} go, of ${formatFirst(c.deletes.workloads, 4)}.` : '',
    c.secondPerson ? `A second person has to agree: ${c.secondPerson}` : '',
    ...c.warnings.map((w) => `Mind: ${w.text}`),
  ];
  return lines.filter(Boolean).map(harmless).join('\n');
}

/** Policies: told, written down, checked, compared, put in force. */
export const addPolicies: Adds = (program, opens) => {
  const policies = program.command('policies').description('what is protected, when and for how long');
  policies
    .command('list', { isDefault: true })
    .description('list policies')
    .action(async (_o, command: Command) =>
      opens(command, async (io) => {
        const answer = await io.server.call('listPolicies', { query: { limit: 500 } });
        tell(io, answer, () =>
          table(
            ['>No', 'Policy', '>Workloads', '>Points', 'Last run', 'Next run'],
            answer.rows.map((p) => [
              String(p.id),
              p.body.name,
              String(p.matches.length),
              String(p.points),
              p.lastRun === null ? '–' : atOf(p.lastRun, io.zone),
              p.nextRun === null ? 'by hand' : atOf(p.nextRun, io.zone),
            ]),
            'No policies.',
          ),
        );
      }),
    );

  policies
    .command('export')
    .description('a policy as YAML, as "put" takes it')
    .argument('<policy>', 'its name or number')
    .action(async (name: string, _o, command: Command) =>
      opens(command, async (io) => {
        io.out((await textOf((await io.server.stream('policyFile', { id: (await policyNamed(io.server, name)).id })).body)).trimEnd());
      }),
    );

  const read = async (io: Io, file: string) => {
    const { body } = await io.server.call('readPolicy', { body: { text: await textIn(file) } });
    const { rows } = await io.server.call('listPolicies', { query: { limit: 500 } });
    return { body, inForce: rows.find((p) => p.body.name === body.name) };
  };

  policies
    .command('check')
    .description('say what a policy in a file would do, without putting it in force')
    .argument('<file>', 'YAML; - for what comes in')
    .action(async (file: string, _o, command: Command) =>
      opens(command, async (io) => {
        const { body, inForce } = await read(io, file);
        const consequences = await io.server.call('consequences', { body: { id: inForce?.id ?? null, body } });
        tell(io, consequences, () => consequenceWords(consequences, io.zone));
      }),
    );

  policies
    .command('compare')
    .description('say in which lines a policy in a file differs from the one in force; the exit status is 1 where it does')
    .argument('<file>', 'YAML; - for what comes in')
    .action(async (file: string, _o, command: Command) =>
      opens(command, async (io) => {
        const { body, inForce } = await read(io, file);
        const before = inForce ? fieldsOf(inForce.body) : new Map<string, string>();
        const after = fieldsOf(body);
        const rows = [...new Set([...before.keys(), ...after.keys()])]
          .filter((key) => before.get(key) !== after.get(key))
          .map((field) => ({ field, inForce: before.get(field) ?? null, inFile: after.get(field) ?? null }));
        tell(io, { policy: inForce?.id ?? null, rows }, () =>
          inForce
            ? table(
                ['What', 'In force', 'In the file'],
                rows.map((r) => [r.field, r.inForce ?? '–', r.inFile ?? '–']),
                'They say the same.',
              )
            : `No policy ${body.name} is in force.`,
        );
        if (rows.length) process.exitCode = 1;
      }),
    );

  policies
    .command('put')
    .description('put a policy from a file in force, in the place of the one of its name')
    .argument('<file>', 'YAML; - for what comes in')
    .option('--yes', 'without being asked')
    .action(async (file: string, o: { yes?: boolean }, command: Command) =>
      opens(command, async (io) => {
        const { body, inForce } = await read(io, file);
        const consequences = await io.server.call('consequences', { body: { id: inForce?.id ?? null, body } });
        io.note(consequenceWords(consequences, io.zone));
        if (!o.yes) {
          if (!io.interactive || file === '-')
            throw new CliError('CANCELLED', 'Nobody is here to be asked: say --yes. Nothing was changed.');
          if (!(await confirm({ message: `Put ${body.name} in force?`, default: false })))
            throw new CliError('CANCELLED', 'Nothing was changed.');
        }
        if (!inForce) {
          const answer = await io.server.call('addPolicy', { body });
          tell(io, answer, () => `${body.name} is in force (policy ${answer.id}).`);
          return;
        }
        const answer = await io.server.call('changePolicy', { id: inForce.id, body });
        tell(io, answer, () =>
          answer.request === null ? `${body.name} is in force.` : `A second person has to agree first (request ${answer.request}).`,
        );
      }),
    );

  policies
    .command('end')
    .description('end a policy; its points stay until they expire')
    .argument('<policy>', 'its name or number')
    .requiredOption('--yes', 'really')
    .action(async (name: string, _o, command: Command) =>
      opens(command, async (io) => {
        const { id, body } = await policyNamed(io.server, name);
        tell(io, await io.server.call('removePolicy', { id }), () => `${body.name} has ended.`);
      }),
    );
};

/** All that a value says, field by field. */
function fieldsOf(value: unknown, at = '', into = new Map<string, string>()): Map<string, string> {
  if (typeof value !== 'object' || value === null) into.set(at, JSON.stringify(value));
  else for (const [key, inner] of Object.entries(value)) fieldsOf(inner, at === '' ? key : `${at}.${key}`, into);
  return into;
}
