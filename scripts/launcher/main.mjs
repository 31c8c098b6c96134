// The launcher: what "./lithodex" does.
import { parseArgs } from 'node:util';
import { existsSync } from 'node:fs';
import path from 'node:path';
import { build, install, installForMedium, installForServer, installNpm } from './install.mjs';
import { keepInForeground } from './keep-running.mjs';

const help = `Lithodex

  ./lithodex demo [--port P] [--state DIR] [--fresh] [--second-site]   install what is missing, build, start with the demo data, print the address; with a second installation that follows a store
  ./lithodex start [--state DIR] [--port P] [--host ADDRESS] [--name NAME] [--redirect-port P]   an installation: makes it the first time, and starts it; see docs/install.md
      [--certificate FILE --key FILE | --own-certificate] [--database mariadb://USER@HOST:PORT/NAME --database-password-file FILE [--database-authority FILE]]
  ./lithodex install [--to DIR] [as start]             the same, started by systemd from now on; upgrade brings it to this version, remove takes it away
  ./lithodex upgrade [--state DIR] | remove [--state DIR] [--with-state]
  ./lithodex doctor [--state DIR] [--json] [--archive FILE]   look at an installation, say what is not right and what helps; pack an archive without secrets
  ./lithodex start --config FILE                       start the server alone, with a configuration of your own
  ./lithodex cli [--help]                              everything by command: estate, runs, policies, targets, restore, people, audit; see docs/cli.md
  ./lithodex test [unit|api|browser] [--ratio]         run the tests (all, or one kind); --ratio only counts lines
  ./lithodex test long | metal                         what takes long or needs more packages, and is no part of the run above
  ./lithodex test --fuzz=N | --kills=N                 send N bodies to every route; kill mover and server N times
  ./lithodex test --follow=MINUTES                     have a second site follow a store while both are killed, and bring everything back that it lists
  ./lithodex test --seconds=N                          bring a database back to N seconds while it is written to, and compare
  ./lithodex bench [NAME…] [--json]                    measure beside the peers
  ./lithodex token --role ROLE --name NAME [--duties D,D] [--state DIR]   print an API token for the demo's server, or one for a mover
  ./lithodex mover --server URL --token-file FILE [--keys DIR] [--name NAME] [--join CODE] [--receive HOST:PORT] [--scripts DIR] [--bounds FILE] [--authority FILE]   start a mover; a code lets it in the first time
  ./lithodex medium --server URL --code CODE --out FILE [--name NAME] [--authority FILE] [--kernel standard|virtual]   make the image that a machine is started from to be rebuilt
  ./lithodex extract --store DIR --envelope FILE --list     list the points of a target, or bring one back, without server and database
  ./lithodex help                                      this text
`;

const [command = 'help', ...rest] = process.argv.slice(2);
const text = { type: 'string' };
const installationOptions = {
  state: text,
  port: text,
  host: text,
  name: { type: 'string', multiple: true },
  'redirect-port': text,
  certificate: text,
  key: text,
  'own-certificate': { type: 'boolean' },
  database: text,
  'database-password-file': text,
  'database-authority': text,
};

/** What a mover is started with, and apart from that the file of the authority that it trusts besides those of the system. */
function withoutAuthority(args) {
  const at = args.indexOf('--authority');
  if (at < 0) return { args, authority: undefined };
  if (!args[at + 1] || !existsSync(fileOf(args[at + 1]))) throw new Error('--authority names a file that is not there.');
  return { args: args.toSpliced(at, 2), authority: args[at + 1] };
}

/** A port as it was typed. Throws for what is none. */
function portOf(value, option) {
  if (value === undefined) return undefined;
  const port = Number(value);
  if (!/^\d{1,5}$/.test(value) || port < 1 || port > 65535) throw new Error(`--${option} takes a port, 1 to 65535.`);
  return port;
}

/** A file as it was typed, from where the command was called. */
const fileOf = (value) => value && path.resolve(process.env.LITHODEX_FROM ?? '.', value);

/** Where the state of an installation is. */
async function stateOf({ state }) {
  const { usualState } = await import('./installed/state.mjs');
  return fileOf(state) ?? usualState();
}

/** What was asked of an installation on the command line; undefined stays as it was. */
function askedOf(values) {
  return {
    host: values.host,
    port: portOf(values.port, 'port'),
    redirectPort: portOf(values['redirect-port'], 'redirect-port'),
    names: values.name,
    certificate: fileOf(values.certificate),
    key: fileOf(values.key),
    ownCertificate: values['own-certificate'],
    database: values.database,
    databasePasswordFile: fileOf(values['database-password-file']),
    databaseAuthority: fileOf(values['database-authority']),
  };
}

async function main() {
  switch (command) {
    case 'demo': {
      const { values } = parseArgs({
        args: rest,
        options: { port: text, state: text, fresh: { type: 'boolean' }, 'second-site': { type: 'boolean' } },
      });
      await install(false);
      await build(['node']);
      const { demo } = await import('./demo.mjs');
      const second = values['second-site'] ?? false;
      return demo({ port: Number(values.port ?? 8420), state: values.state ?? 'state/demo', fresh: values.fresh ?? false, second });
    }
    case 'start': {
      const { values } = parseArgs({ args: rest, options: { ...installationOptions, config: text } });
      if (values.config) {
        if (!existsSync(values.config)) throw new Error(`${values.config} is not there; see docs/configuration.md`);
        await installNpm();
        await build();
        return keepInForeground('The server', ['dist/node/server.js', values.config]);
      }
      const asked = askedOf(values);
      await installForServer(asked.database === undefined);
      await build();
      const { start } = await import('./installed/start.mjs');
      return start(await stateOf(values), asked);
    }
    case 'install': {
      const { values } = parseArgs({ args: rest, options: { ...installationOptions, to: text } });
      const asked = askedOf(values);
      await installForServer(asked.database === undefined);
      await build();
      const { installUnits } = await import('./installed/install.mjs');
      return installUnits(await stateOf(values), asked, fileOf(values.to));
    }
    case 'upgrade': {
      const { values } = parseArgs({ args: rest, options: { state: text } });
      await installForServer(true);
      await build();
      const { upgrade } = await import('./installed/install.mjs');
      return upgrade(await stateOf(values));
    }
    case 'remove': {
      const { values } = parseArgs({ args: rest, options: { state: text, 'with-state': { type: 'boolean' } } });
      const { remove } = await import('./installed/install.mjs');
      return remove(await stateOf(values), values['with-state'] ?? false);
    }
    case 'doctor': {
      const { values } = parseArgs({ args: rest, options: { state: text, json: { type: 'boolean' }, archive: text } });
      await installNpm();
      await build(['node']);
      const { doctor } = await import('./installed/doctor.mjs');
      process.exitCode = await doctor(await stateOf(values), { json: values.json ?? false, archive: fileOf(values.archive) });
      return undefined;
    }
    case 'part': {
      const { values, positionals } = parseArgs({ args: rest, options: { state: text }, allowPositionals: true });
      const { runPart } = await import('./installed/part.mjs');
      return runPart(positionals[0], await stateOf(values));
    }
    case 'mover': {
      await installNpm();
      await build(['node']);
      const { args, authority } = withoutAuthority(rest);
      // read by Node itself as it starts
      if (authority) process.env.NODE_EXTRA_CA_CERTS = fileOf(authority);
      return keepInForeground('The mover', ['dist/node/mover.js', ...args]);
    }
    case 'medium': {
      const { values } = parseArgs({
        args: rest,
        options: { server: text, code: text, name: text, authority: text, out: text, kernel: text },
      });
      const { checkWanted, medium } = await import('./medium.mjs');
      checkWanted(values);
      await installForMedium();
      const { bytes, sha256, version, kernel } = await medium(values);
      process.stdout.write(
        `${values.out}: ${(bytes / 1e6).toFixed(0)} MB, Lithodex ${version}, kernel ${kernel}\nSHA-256 ${sha256}\nWrite it to a stick or attach it as a disc, and start the machine from it first.\n`,
      );
      return undefined;
    }
    case 'cli': {
      await installNpm();
      await build(['node']);
      // what is named on the command line is named from where it was called
      process.chdir(process.env.LITHODEX_FROM ?? '.');
      process.argv = [process.argv[0], 'lithodex cli', ...rest];
      await import('../../dist/node/cli.js');
      return undefined;
    }
    case 'extract': {
      await installNpm();
      await build(['node']);
      process.argv = [process.argv[0], 'extract', ...rest];
      await import('../../dist/node/extract.js');
      return undefined;
    }
    case 'test': {
      const { test } = await import('./test.mjs');
      return test(rest);
    }
    case 'bench': {
      await install(true);
      await build(['node']);
      const { bench } = await import('./bench.mjs');
      return bench(rest);
    }
    case 'token': {
      const { values } = parseArgs({
        args: rest,
        options: { role: { type: 'string' }, name: { type: 'string' }, state: { type: 'string' }, duties: { type: 'string' } },
      });
      const { token } = await import('./token.mjs');
      return token({ role: values.role, name: values.name, state: values.state ?? 'state/demo', duties: values.duties });
    }
    case 'help':
    case '--help':
    case '-h':
      process.stdout.write(help);
      return undefined;
    default:
      process.stderr.write(`There is no command "${command}".\n\n${help}`);
      process.exitCode = 2;
      return undefined;
  }
}

main().catch((error) => {
  process.stderr.write(`${error instanceof Error ? error.message : String(error)}\n`);
  process.exit(1);
});
