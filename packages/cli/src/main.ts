import { runCli } from './program';

process.stdout.on('error', (error: NodeJS.ErrnoException) => {
  // who reads may have enough, as "head" does
  if (error.code === 'EPIPE') process.exit(0);
  throw error;
});
process.exitCode = await runCli(process.argv.slice(2)).catch((error: unknown) => {
  process.stderr.write(`${error instanceof Error ? error.message : String(error)}\n`);
  return 1;
});
