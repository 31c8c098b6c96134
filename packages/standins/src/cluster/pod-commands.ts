import { spawn } from 'node:child_process';
import type { WebSocket } from 'ws';
import type { ClusterSwitches } from './switches';

const [stdin, stdout, stderr, status, close] = [0, 1, 2, 3, 255];
const mostBuffered = 4 << 20;

/** Runs the command of a pod as the protocol `v5.channel.k8s.io` has it, where the volumes of the pod lie: its paths are put in place of those in the words. */
export function runInPod(
  socket: WebSocket,
  command: readonly string[],
  places: readonly (readonly [string, string])[],
  switches: ClusterSwitches,
): void {
  const send = (channel: number, data: Buffer, sent?: () => void) => {
    socket.send(Buffer.concat([Buffer.from([channel]), data]), sent);
  };
  const end = (code: number) => {
    // what still comes in is read, so that the end of the connection is heard
    socket.resume();
    const said =
      code === 0
        ? { metadata: {}, status: 'Success' }
        : {
            metadata: {},
            status: 'Failure',
            reason: 'NonZeroExitCode',
            message: `command terminated with exit code ${code}`,
            details: { causes: [{ reason: 'ExitCode', message: String(code) }] },
          };
    send(status, Buffer.from(JSON.stringify(said)), () => {
      socket.close(1000);
    });
  };
  const [named = ''] = command;
  if (switches.hangs.includes(named)) return;
  if (switches.fails.includes(named)) {
    send(stderr, Buffer.from('it does not want to\n'));
    end(1);
    return;
  }
  const [program = '', ...rest] = command.map((word) => here(word, places));
  const child = spawn(program, rest, { stdio: 'pipe', env: { PATH: process.env['PATH'], LC_ALL: 'C' } });
  child.on('error', (error) => {
    send(stderr, Buffer.from(`${error.message}\n`));
    end(127);
  });
  for (const [channel, stream] of [
    [stdout, child.stdout],
    [stderr, child.stderr],
  ] as const)
    stream.on('data', (data: Buffer) => {
      send(channel, data, () => {
        if (socket.bufferedAmount <= mostBuffered) stream.resume();
      });
      if (socket.bufferedAmount > mostBuffered) stream.pause();
    });
  child.stdin.on('error', () => undefined);
  socket.on('message', (data: Buffer) => {
    if (data[0] === close && data[1] === stdin) child.stdin.end();
    else if (data[0] === stdin && !child.stdin.write(data.subarray(1))) {
      socket.pause();
      child.stdin.once('drain', () => {
        socket.resume();
      });
    }
  });
  socket.on('close', () => child.kill('SIGKILL'));
  child.on('close', (code) => {
    end(code ?? 137);
  });
}

/** Paths in the pod that a word names, as they lie here. */
function here(word: string, places: readonly (readonly [string, string])[]): string {
  return places.reduce(
    (text, [path, place]) =>
      text.replaceAll(new RegExp(`(?<![\\w/.-])${path.replace(/[.*+?^${}()|[\]\\]/g, '\\$&')}(?![\\w.-])`, 'g'), () => place),
    word,
  );
}
