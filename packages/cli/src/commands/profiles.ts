import fs from 'node:fs';
import os from 'node:os';
import { input, password } from '../ask';
import type { SignedIn } from '@lithodex/contract';
import { CliError } from '../errors';
import { Profile, readProfiles, writeProfiles } from '../profiles';
import { Server } from '../server';
import { table } from '../table';
import type { Adds } from './common';

interface Given {
  readonly address: string;
  readonly tokenFile?: string;
  readonly authority?: string;
}

/** What a session is gone on with. */
const cookieOf = (headers: Readonly<Record<string, string | string[] | undefined>>) =>
  [headers['set-cookie']].flat()[0]?.split(';')[0] ?? '';

/** A token of one's own, after signing in as on the screen. Throws what the server says. */
async function signedIn(address: string, authority: string | undefined): Promise<string> {
  if (!process.stdin.isTTY) throw new CliError('CANCELLED', 'Nobody is here to sign in: give a token with --token-file.');
  const server = new Server(address, {}, authority);
  try {
    const body = { name: await input({ message: 'Name' }), password: await password({ message: 'Password' }) };
    const first = await server.callWithHeaders('signIn', { body });
    let cookie = cookieOf(first.headers);
    let step: SignedIn = first.answer;
    while ('step' in step) {
      if (step.step !== 'second') throw new CliError('REFUSED', 'Sign in on the screen first: there is something to set up.');
      server.open({ cookie });
      const code = (await input({ message: 'Code of your authenticator, or a recovery code' })).trim();
      const shown = /^\d{6}$/.test(code) ? { by: 'code' as const, code } : { by: 'recovery' as const, code };
      const next = await server.callWithHeaders('showSecond', { body: shown });
      cookie = cookieOf(next.headers) || cookie;
      step = next.answer;
    }
    server.open({ cookie, 'x-lithodex-csrf': step.csrf });
    const name = `command line on ${os.hostname()}`.slice(0, 80);
    const { token } = await server.call('addToken', { body: { name, role: step.role } });
    await server.call('signOut').catch(() => undefined);
    return token;
  } finally {
    await server.close();
  }
}

/** The servers that are known here. */
export const addProfiles: Adds = (program) => {
  const profile = program.command('profile').description('the servers that are known here, each with an address and a token');
  profile
    .command('add')
    .description('know a server; asks for name and password where no token is given')
    .argument('<name>', 'what it is called here')
    .requiredOption('--address <url>', 'such as https://backup.harbour.example:8420')
    .option('--token-file <file>', 'file with a token; - for what comes in')
    .option('--authority <file>', 'the authority of its certificate, where the system does not know it')
    .action(async (name: string, o: Given) => {
      const authority = o.authority === undefined ? undefined : fs.readFileSync(o.authority, 'utf8');
      const address = Profile.shape.address.safeParse(o.address);
      if (!address.success) throw new CliError('USAGE', `"${o.address}" is no address.`);
      const token = o.tokenFile
        ? fs.readFileSync(o.tokenFile === '-' ? 0 : o.tokenFile, 'utf8').trim()
        : await signedIn(o.address, authority);
      const made: Profile = Profile.parse({ address: o.address, token, ...(authority !== undefined && { authority }) });
      const server = Server.of(made);
      const me = await server.call('me').finally(() => server.close());
      const { used, profiles } = readProfiles();
      writeProfiles({ used: used ?? name, profiles: { ...profiles, [name]: made } });
      process.stdout.write(`${name} is known: ${me.display}, ${me.role}.\n`);
    });
  profile
    .command('list', { isDefault: true })
    .description('list them')
    .action(() => {
      const { used, profiles } = readProfiles();
      const rows = Object.entries(profiles).map(([name, p]) => [name === used ? '*' : '', name, p.address]);
      process.stdout.write(`${table(['', 'Name', 'Address'], rows, 'No server is known here.')}\n`);
    });
  profile
    .command('use')
    .description('go on with this one where none is named')
    .argument('<name>')
    .action((name: string) => {
      const { profiles } = readProfiles();
      if (!profiles[name]) throw new CliError('NO_PROFILE', `There is no profile "${name}".`);
      writeProfiles({ used: name, profiles });
    });
  profile
    .command('remove')
    .description('know it no more; its token is good until somebody withdraws it')
    .argument('<name>')
    .action((name: string) => {
      const { used, profiles } = readProfiles();
      if (!profiles[name]) throw new CliError('NO_PROFILE', `There is no profile "${name}".`);
      const rest = Object.fromEntries(Object.entries(profiles).filter(([key]) => key !== name));
      writeProfiles({ used: used === name ? (Object.keys(rest)[0] ?? null) : used, profiles: rest });
    });
};
