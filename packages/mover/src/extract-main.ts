import { extract } from './extract';

try {
  process.exitCode = await extract(process.argv.slice(2), process.env['LITHODEX_FROM'] ?? process.cwd(), (line) => {
    process.stdout.write(`${line}\n`);
  });
} catch (error) {
  process.stderr.write(`${error instanceof Error ? error.message : String(error)}\n`);
  process.exitCode = 1;
}
