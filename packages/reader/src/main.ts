import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { read } from './reader';

try {
  const here = path.dirname(path.dirname(fileURLToPath(import.meta.url)));
  process.exitCode = await read(process.argv.slice(2), here, (line) => {
    process.stdout.write(`${line}\n`);
  });
} catch (error) {
  process.stderr.write(`${error instanceof Error ? error.message : String(error)}\n`);
  process.exitCode = 1;
}
