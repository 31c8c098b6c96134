import { Command, CommanderError } from 'commander';
import { addCall } from './commands/call';
import type { Opens } from './commands/common';
import { addEstate } from './commands/estate';
import { addPeople } from './commands/people';
import { addPolicies } from './commands/policies';
import { addProfiles } from './commands/profiles';
import { addRestore } from './commands/restore';
import { addRuns } from './commands/runs';
import { addStorage } from './commands/storage';
import { addWatch } from './commands/watch';
import { completionFor } from './completion';
import { CliError } from './errors';
import { profileOf } from './profiles';
import { Server } from './server';

const opens: Opens = async (command, act) => {
  const { profile, json, zone } = command.optsWithGlobals<{ profile?: string; json?: boolean; zone?: string }>();
  const server = Server.of(profileOf(profile));
  try {
    return await act({
      server,
      json: json ?? false,
      zone: zone ?? (await server.call('me')).zone,
      interactive: process.stdin.isTTY && process.stderr.isTTY,
      out: (text) => process.stdout.write(`${text}\n`),
      note: (text) => process.stderr.write(`${text}\n`),
    });
  } finally {
    await server.close();
  }
};

/** All commands. `ended`: told how a run ended, as an exit status. */
export function programOf(ended: (status: number) => void): Command {
  const program = new Command('lithodex cli')
    .description('Lithodex by the command line: what the screen can do, a script can do too.')
    .option(
      '--profile <name>',
      'the server that is meant; the one in use where none is named (also LITHODEX_PROFILE, or LITHODEX_ADDRESS with LITHODEX_TOKEN)',
    )
    .option('--json', 'answers as the API gives them')
    .option('--zone <zone>', 'zone in which times are told and taken; that of the installation where none is named')
    .showSuggestionAfterError()
    .exitOverride();
  for (const add of [addProfiles, addWatch, addEstate, addRuns, addPolicies, addStorage, addRestore, addPeople, addCall])
    add(program, opens, ended);
  program
    .command('completion')
    .description('a script by which a shell completes commands: source <(lithodex cli completion bash)')
    .argument('<shell>', 'bash or zsh')
    .action((shell: string) => {
      if (shell !== 'bash' && shell !== 'zsh') throw new CliError('USAGE', 'There are bash and zsh.');
      process.stdout.write(completionFor(program, shell));
    });
  // every command ends by an exception of its own, which is told below
  const all = (c: Command): Command[] => [c, ...c.commands.flatMap(all)];
  for (const command of all(program)) command.exitOverride();
  return program;
}

/** Runs one command line. Gives the exit status of the process. */
export async function runCli(args: readonly string[]): Promise<number> {
  let status = 0;
  const program = programOf((s) => {
    status = s;
  });
  try {
    await program.parseAsync([...args], { from: 'user' });
    return status || Number(process.exitCode ?? 0);
  } catch (error) {
    if (error instanceof CommanderError) return error.exitCode === 0 || error.code === 'commander.helpDisplayed' ? 0 : 2;
    if ((error as Error).name === 'ExitPromptError') {
      process.stderr.write('Nothing was changed.\n');
      return 1;
    }
    if (!(error instanceof CliError)) throw error;
    const { json } = program.opts<{ json?: boolean }>();
    process.stderr.write(
      json ? `${JSON.stringify({ code: error.refusal ?? error.code, message: error.message })}\n` : `${error.message}\n`,
    );
    return error.status;
  }
}
