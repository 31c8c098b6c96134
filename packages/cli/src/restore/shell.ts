import { createInterface } from 'node:readline/promises';
import { CliError } from '../errors';
import type { Io } from '../io';
import { carryOut, plan, type Wanted } from './carry-out';
import { conflictWords, destinationOf, destinationWords, type Conflict, type Destination, type Picked } from './picked';
import { isStopped, planWords } from './plan-words';
import { Walk, wordsOf } from './walk';

const help = `  open WORKLOAD [MOMENT]   another point: the newest, or that of a moment
  ls [PATH]   cd PATH      look, and go
  find TEXT                by name, over all points of the workload
  tick [PATH…|*|NUMBER]    what comes back; without a word, this folder
  untick PATH…|all         not that
  ticked                   what is ticked
  to DESTINATION           original, a folder of the mover such as /srv/returned, tar, zip or file for a download
  exists RULE              what becomes of what exists: leave, replace, replaceIfOlder, beside
  plan                     what would happen
  start REASON             do it
  quit                     leave it`;

/** What is changed on the walk, besides ticks. */
export interface Settings {
  readonly destination: Destination;
  readonly conflict: Conflict;
  readonly out: string | undefined;
}

const commands = ['open', 'ls', 'cd', 'find', 'tick', 'untick', 'ticked', 'to', 'exists', 'plan', 'start', 'quit', 'help'];

/** A restore put together line by line, with the keyboard alone. Gives the exit status. Throws CANCELLED where it was left. */
export async function restoreShell(
  io: Io,
  first: readonly Picked[],
  settings: Settings,
  workload?: string,
  moment?: string,
): Promise<number> {
  const walk = new Walk(io, first);
  let { destination, conflict } = settings;
  if (workload !== undefined) await walk.open(workload, moment);
  const wanted = (): Wanted => ({ picks: walk.picks, destination, conflict, ...(settings.out !== undefined && { out: settings.out }) });
  const planned = async () => {
    if (!walk.picks.length) throw new CliError('USAGE', 'Nothing is ticked yet.');
    return plan(io, wanted());
  };
  const completer = (line: string): [string[], string] => {
    const word = line.slice(line.lastIndexOf(' ') + 1);
    const from = line.includes(' ') ? walk.names : commands;
    return [from.filter((c) => c.startsWith(word)), word];
  };
  const lines = createInterface({ input: process.stdin, output: process.stdout, completer, terminal: process.stdin.isTTY });
  const gone = new Promise<undefined>((resume) => {
    lines.once('close', () => {
      resume(undefined);
    });
  });

  const acts: Readonly<Record<string, (words: string[], rest: string) => Promise<string>>> = {
    async open([name, ...at]) {
      if (!name) throw new CliError('USAGE', 'open WORKLOAD [MOMENT]');
      await walk.open(name, at.length ? at.join(' ') : undefined);
      return walk.list();
    },
    ls: ([path]) => walk.list(path),
    async cd([path]) {
      await walk.go(path);
      return '';
    },
    find: (_w, rest) => walk.find(rest),
    tick: async (words) => `${await walk.tick(words)} ticked.`,
    untick: async (words) => `${await walk.untick(words)} ticked.`,
    ticked: async () => walk.ticked(),
    async to(_w, rest) {
      destination = destinationOf(rest);
      return `It goes to ${destinationWords(destination)}.`;
    },
    async exists([rule = '']) {
      if (!Object.hasOwn(conflictWords, rule)) throw new CliError('USAGE', `exists ${Object.keys(conflictWords).join('|')}`);
      conflict = rule as Conflict;
      return `${conflictWords[conflict][0]!.toUpperCase()}${conflictWords[conflict].slice(1)}.`;
    },
    plan: async () => planWords(await planned(), io.zone),
    help: async () => help,
  };

  try {
    io.out(`Put a restore together; "help" lists the words. It goes to ${destinationWords(destination)}; ${conflictWords[conflict]}.`);
    for (;;) {
      const line = await Promise.race([lines.question(`${walk.place}> `), gone]);
      if (line === undefined) throw new CliError('CANCELLED', 'It was left. Nothing was changed.');
      const [word = '', ...words] = wordsOf(line.trim());
      const rest = line.trim().slice(word.length).trim();
      if (word === '') continue;
      if (word === 'quit') throw new CliError('CANCELLED', 'It was left. Nothing was changed.');
      try {
        if (word === 'start') {
          if (rest.length < 3) throw new CliError('USAGE', 'start REASON: say why, in a few words.');
          const made = await planned();
          io.out(planWords(made, io.zone));
          if (isStopped(made)) throw new CliError('USAGE', 'Something stands in the way.');
          if (!/^y(es)?$/i.test((await Promise.race([lines.question('Start it? (y/N) '), gone])) ?? '')) continue;
          lines.close();
          return await carryOut(io, wanted(), rest, made, true);
        }
        const act = acts[word];
        if (!act) throw new CliError('USAGE', `There is no word "${word}"; "help" lists them.`);
        const said = await act(words, rest);
        if (said) io.out(said);
      } catch (error) {
        if (!(error instanceof CliError) || error.code === 'UNREACHABLE') throw error;
        io.out(error.message);
      }
    }
  } finally {
    lines.close();
  }
}
