// "./lithodex bench": runs the benches, each beside its peer.
import { spawnSync } from 'node:child_process';

export function bench(args) {
  const { status } = spawnSync(process.execPath, ['dist/node/bench.js', ...args], { stdio: 'inherit' });
  process.exitCode = status ?? 1;
}
