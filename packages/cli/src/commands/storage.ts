import type { Command } from 'commander';
import { atOf } from '../moments';
import fs from 'node:fs';
import { formatBytes } from '@lithodex/core';
import { password } from '../ask';
import { CliError } from '../errors';
import { tell } from '../io';
import { targetNamed } from '../names';
import { endStatus, endWords, followRun } from '../run-end';
import { table } from '../table';
import type { Adds } from './common';

/** Targets: what they hold, their care, their key envelopes; and the movers. */
export const addStorage: Adds = (program, opens, ended) => {
  const targets = program.command('targets').description('where points are kept');
  targets
    .command('list', { isDefault: true })
    .description('list targets')
    .action(async (_o, command: Command) =>
      opens(command, async (io) => {
        const answer = await io.server.call('listTargets');
        tell(io, answer, () =>
          table(
            ['Target', 'Kind', 'Place', '>Used', '>Free', '>Points', 'Verified', 'Key envelope', 'Trouble'],
            answer.rows.map((t) => [
              t.name,
              t.place.kind,
              t.location || '–',
              t.used === null ? '–' : formatBytes(t.used),
              t.free === null ? 'no end known' : formatBytes(t.free),
              String(t.points),
              t.verifiedAt === null ? 'never' : atOf(t.verifiedAt, io.zone),
              t.envelopeAt === null ? 'not fetched' : atOf(t.envelopeAt, io.zone),
              t.trouble ?? '',
            ]),
            'No targets.',
          ),
        );
      }),
    );
  for (const [name, route, words] of [
    ['verify', 'verifyTarget', 'read everything on a target again and check every sum'],
    ['look', 'adoptTarget', 'look for points that the catalog does not know'],
  ] as const)
    targets
      .command(name)
      .description(words)
      .argument('<target>', 'its name')
      .option('--wait', 'until it has ended; the exit status tells how')
      .action(async (wanted: string, o: { wait?: boolean }, command: Command) =>
        opens(command, async (io) => {
          const { runId } = await io.server.call(route, { id: (await targetNamed(io.server, wanted)).id });
          const run = o.wait ? await followRun(io, runId) : undefined;
          tell(io, run ?? { runId }, () => (run ? endWords(run) : `Run ${runId} is started.`));
          if (run) ended(endStatus[run.state]);
        }),
      );
  targets
    .command('prune')
    .description('give back the room of what no point needs')
    .argument('<target>', 'its name')
    .option('--trial', 'only tell how much that is')
    .action(async (wanted: string, o: { trial?: boolean }, command: Command) =>
      opens(command, async (io) => {
        const { id } = await targetNamed(io.server, wanted);
        const run = await followRun(io, (await io.server.call('pruneTarget', { id, body: { trial: o.trial ?? false } })).runId);
        tell(io, run, () => endWords(run));
        ended(endStatus[run.state]);
      }),
    );
  targets
    .command('envelope')
    .description('write the key envelope of a target to a file; keep it apart from this machine')
    .argument('<target>', 'its name')
    .requiredOption('--out <file>', 'where to')
    .option('--passphrase-file <file>', 'the passphrase that wraps it, at least 12 characters; asked where it is not said')
    .action(async (wanted: string, o: { out: string; passphraseFile?: string }, command: Command) =>
      opens(command, async (io) => {
        if (fs.existsSync(o.out)) throw new CliError('USAGE', `${o.out} is there already.`);
        const { id, name } = await targetNamed(io.server, wanted);
        const passphrase = o.passphraseFile
          ? fs.readFileSync(o.passphraseFile, 'utf8').replace(/\r?\n$/, '')
          : await askedTwice(io.interactive);
        const { content } = await io.server.call('envelope', { id, body: { passphrase } });
        fs.writeFileSync(o.out, content, { mode: 0o600, flag: 'wx' });
        tell(io, { file: o.out }, () => `The key envelope of ${name} is in ${o.out}. Without its passphrase it opens nothing.`);
      }),
    );

  program
    .command('movers')
    .description('list the movers')
    .action(async (_o, command: Command) =>
      opens(command, async (io) => {
        const answer = await io.server.call('listMovers');
        tell(io, answer, () =>
          table(
            ['Mover', 'State', 'Place', '>Tasks', '>Running', 'Duties', 'Heard from'],
            answer.rows.map((m) => [
              m.name,
              m.present ? (m.drained ? 'drained' : 'present') : 'away',
              m.place || '–',
              String(m.tasks),
              String(m.running),
              m.duties.join(', '),
              atOf(m.lastSeen, io.zone),
            ]),
            'No movers.',
          ),
        );
      }),
    );
};

async function askedTwice(interactive: boolean): Promise<string> {
  if (!interactive) throw new CliError('CANCELLED', 'Nobody is here to be asked: name a file with --passphrase-file.');
  const first = await password({
    message: 'Passphrase of the envelope, at least 12 characters',
    mask: true,
    validate: (v) => v.length >= 12 || 'longer, please',
  });
  if ((await password({ message: 'Once more', mask: true })) !== first)
    throw new CliError('CANCELLED', 'The two are not the same. Nothing was written.');
  return first;
}
