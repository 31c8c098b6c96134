// The launcher: what "./lithodex" does.
import { parseArgs } from 'node:util';
import { existsSync } from 'node:fs';
import { build, install, installForMedium, installNpm } from './install.mjs';
import { keepInForeground } from './keep-running.mjs';

const help = `Lithodex

  ./lithodex demo [--port P] [--state DIR] [--fresh]   install what is missing, build, start with the demo data, print the address
  ./lithodex start --config FILE                       start the server with a configuration of your own
  ./lithodex test [unit|api|browser] [--ratio]         run the tests (all, or one kind); --ratio only counts lines
  ./lithodex test long | metal                         what takes long or needs more packages, and is no part of the run above
  ./lithodex test --fuzz=N | --kills=N                 send N bodies to every route; kill mover and server N times
  ./lithodex test --seconds=N                          bring a database back to N seconds while it is written to, and compare
  ./lithodex bench [NAME…] [--json]                    measure beside the peers
  ./lithodex token --role ROLE --name NAME [--duties D,D] [--state DIR]   print an API token for the demo's server, or one for a mover
  ./lithodex mover --server URL --token-file FILE [--keys DIR] [--name NAME] [--join CODE] [--receive HOST:PORT] [--scripts DIR] [--bounds FILE]   start a mover; a code lets it in the first time
  ./lithodex medium --server URL --code CODE --out FILE [--name NAME] [--authority FILE] [--kernel standard|virtual]   make the image that a machine is started from to be rebuilt
  ./lithodex extract --store DIR --envelope FILE --list     list the points of a target, or bring one back, without server and database
  ./lithodex help                                      this text
`;

const [command = 'help', ...rest] = process.argv.slice(2);

async function main() {
  switch (command) {
    case 'demo': {
      const { values } = parseArgs({
        args: rest,
        options: { port: { type: 'string' }, state: { type: 'string' }, fresh: { type: 'boolean' } },
      });
      await install(false);
      await build(['node']);
      const { demo } = await import('./demo.mjs');
      return demo({ port: Number(values.port ?? 8420), state: values.state ?? 'state/demo', fresh: values.fresh ?? false });
    }
    case 'start': {
      const { values } = parseArgs({ args: rest, options: { config: { type: 'string' } } });
      if (!values.config || !existsSync(values.config)) throw new Error('start needs --config FILE; see docs/configuration.md');
      await installNpm();
      await build();
      return keepInForeground('The server', ['dist/node/server.js', values.config]);
    }
    case 'mover': {
      await installNpm();
      await build(['node']);
      return keepInForeground('The mover', ['dist/node/mover.js', ...rest]);
    }
    case 'medium': {
      const text = { type: 'string' };
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
