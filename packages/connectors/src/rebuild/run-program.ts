import { spawn } from 'node:child_process';
import { SourceError } from '../source-error';

const mostSaid = 4000;

/** Runs a program of the host to its end, with a text given to it. Throws PROGRAM_MISSING, and REBUILD_FAILED with what it said last. */
export function runProgram(program: string, args: readonly string[], input = ''): Promise<string> {
  return new Promise((resolve, reject) => {
    const child = spawn(program, args, { stdio: ['pipe', 'pipe', 'pipe'], env: { ...process.env, LC_ALL: 'C', MTOOLS_SKIP_CHECK: '1' } });
    let out = '';
    let said = '';
    child.stdout.setEncoding('utf8').on('data', (text: string) => (out = (out + text).slice(-mostSaid)));
    child.stderr.setEncoding('utf8').on('data', (text: string) => (said = (said + text).slice(-mostSaid)));
    child.once('error', (error: NodeJS.ErrnoException) => {
      reject(error.code === 'ENOENT' ? new SourceError('PROGRAM_MISSING', program) : error);
    });
    child.stdin.on('error', () => undefined);
    child.once('close', (status) => {
      if (status === 0) resolve(out);
      else reject(new SourceError('REBUILD_FAILED', `${program} ended with ${status}: ${(said || out).trim().split('\n').at(-1) ?? ''}`));
    });
    child.stdin.end(input);
  });
}
