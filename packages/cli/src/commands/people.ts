import { atOf } from '../moments';
import fs from 'node:fs';
import { roles, type Role } from '@lithodex/contract';
import { password } from '../ask';
import { Option, type Command } from 'commander';
import { CliError } from '../errors';
import { tell, type Io } from '../io';
import { table } from '../table';
import type { Adds } from './common';

const when = (io: Pick<Io, 'zone'>, at: number | null) => (at === null ? '–' : atOf(at, io.zone));

/** People, tokens, what waits for a second person, and the audit trail. */
export const addPeople: Adds = (program, opens) => {
  const people = program.command('people').description('who may sign in');
  people
    .command('list', { isDefault: true })
    .description('list people')
    .action(async (_o, command: Command) =>
      opens(command, async (io) => {
        const answer = await io.server.call('listPeople');
        tell(io, answer, () =>
          table(
            ['>No', 'Name', 'Called', 'Role', 'Second factor', ''],
            answer.rows.map((p) => [String(p.id), p.name, p.display, p.role, p.second, p.disabled ? 'barred' : '']),
          ),
        );
      }),
    );
  people
    .command('add')
    .description('add a person; the password is to be changed at the first sign-in')
    .argument('<name>', 'the name they sign in with')
    .requiredOption('--display <name>', 'what they are called')
    .addOption(new Option('--role <role>', 'what they may do').choices(roles).makeOptionMandatory())
    .option('--password-file <file>', 'their first password; asked where it is not said')
    .action(async (name: string, o: { display: string; role: Role; passwordFile?: string }, command: Command) =>
      opens(command, async (io) => {
        if (!o.passwordFile && !io.interactive)
          throw new CliError('CANCELLED', 'Nobody is here to be asked: name a file with --password-file.');
        const first = o.passwordFile
          ? fs.readFileSync(o.passwordFile, 'utf8').replace(/\r?\n$/, '')
          : await password({ message: 'Their first password', mask: true });
        const answer = await io.server.call('addPerson', { body: { name, display: o.display, role: o.role, password: first } });
        tell(io, answer, () => `${o.display} may sign in as ${name}.`);
      }),
    );
  people
    .command('bar')
    .description('bar a person: sessions, tokens and open pages end at once')
    .argument('<name>', 'their name or number')
    .requiredOption('--yes', 'really')
    .action(async (wanted: string, _o, command: Command) =>
      opens(command, async (io) => {
        const { rows } = await io.server.call('listPeople');
        const person = rows.find((p) => p.name === wanted || String(p.id) === wanted);
        if (!person) throw new CliError('NOT_FOUND', `There is no person "${wanted}".`);
        tell(io, await io.server.call('removePerson', { id: person.id }), () => `${person.display} is barred.`);
      }),
    );

  const tokens = program.command('tokens').description('tokens of programs');
  tokens
    .command('list', { isDefault: true })
    .description('list tokens, without their secrets')
    .action(async (_o, command: Command) =>
      opens(command, async (io) => {
        const answer = await io.server.call('listTokens');
        tell(io, answer, () =>
          table(
            ['>No', 'Name', 'Role', 'Belongs to', 'Used', 'Ends'],
            answer.rows.map((t) => [String(t.id), t.name, t.role, t.owner ?? '–', when(io, t.lastUsedAt), when(io, t.expiresAt)]),
            'No tokens.',
          ),
        );
      }),
    );
  tokens
    .command('add')
    .description('issue a token; it is told once')
    .argument('<name>', 'what it is for')
    .addOption(new Option('--role <role>', 'what it may do').choices(roles).makeOptionMandatory())
    .option('--days <n>', 'for how long it is good', '90')
    .action(async (name: string, o: { role: Role; days: string }, command: Command) =>
      opens(command, async (io) => {
        const answer = await io.server.call('addToken', { body: { name, role: o.role, days: Number(o.days) } });
        tell(io, answer, () => answer.token);
      }),
    );
  tokens
    .command('rotate')
    .description('issue a token anew; the old secret is good no more')
    .argument('<number>')
    .option('--days <n>', 'for how long it is good', '90')
    .action(async (id: string, o: { days: string }, command: Command) =>
      opens(command, async (io) => {
        const answer = await io.server.call('rotateToken', { id, body: { days: Number(o.days) } });
        tell(io, answer, () => answer.token);
      }),
    );
  tokens
    .command('remove')
    .description('withdraw a token')
    .argument('<number>')
    .action(async (id: string, _o, command: Command) =>
      opens(command, async (io) => {
        tell(io, await io.server.call('removeToken', { id }), () => 'It opens nothing any more.');
      }),
    );

  const requests = program.command('requests').description('what waits for a second person');
  requests
    .command('list', { isDefault: true })
    .description('list requests')
    .action(async (_o, command: Command) =>
      opens(command, async (io) => {
        const answer = await io.server.call('listRequests');
        tell(io, answer, () =>
          table(
            ['>No', 'State', 'About', 'Effect', 'Asked by', 'At'],
            answer.rows.map((r) => [String(r.id), r.state, r.subject, r.effect, r.askedBy, atOf(r.askedAt, io.zone)]),
            'Nothing waits.',
          ),
        );
      }),
    );
  for (const [name, route, words] of [
    ['agree', 'agreeRequest', 'It is done.'],
    ['refuse', 'refuseRequest', 'It is refused.'],
  ] as const)
    requests
      .command(name)
      .description(name === 'agree' ? 'agree as the second person: it is done at once' : 'refuse a request, or withdraw an own one')
      .argument('<number>')
      .action(async (id: string, _o, command: Command) =>
        opens(command, async (io) => {
          tell(io, await io.server.call(route, { id }), () => words);
        }),
      );

  const audit = program.command('audit').description('who did what');
  audit
    .command('list', { isDefault: true })
    .description('the audit trail, newest first')
    .option('--text <text>', 'only rows with this text')
    .option('--limit <n>', 'at most so many', '50')
    .action(async (o: { text?: string; limit: string }, command: Command) =>
      opens(command, async (io) => {
        const answer = await io.server.call('audit', { query: { q: o.text, limit: o.limit } });
        tell(io, answer, () =>
          table(
            ['>No', 'At', 'Who', 'Act', 'On', 'Detail'],
            answer.rows.map((r) => [String(r.seq), atOf(r.at, io.zone), r.actor, r.action, r.object, r.detail.slice(0, 120)]),
            'No rows.',
          ),
        );
      }),
    );
  audit
    .command('check')
    .description('check that no row was changed or removed; the exit status is 1 where one was')
    .action(async (_o, command: Command) =>
      opens(command, async (io) => {
        const answer = await io.server.call('checkAudit');
        tell(io, answer, () =>
          answer.intact
            ? `All ${answer.rows} rows are as they were written.`
            : `The trail is damaged: ${answer.brokenCount} rows are broken${answer.cutShort ? ', and it was cut short' : ''}.`,
        );
        if (!answer.intact) process.exitCode = 1;
      }),
    );
};
