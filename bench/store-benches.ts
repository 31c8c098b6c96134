import { median } from '@lithodex/core';
import { spawnSync } from 'node:child_process';
import fs from 'node:fs';
import { changeOnePercent, makeSampleTree } from './sample-tree';
import { inProcess } from './measured';
import type { Result } from './result';

function peer(command: string): number {
  const began = performance.now();
  const { status, stderr } = spawnSync('bash', ['-o', 'pipefail', '-c', command], { encoding: 'utf8' });
  if (status !== 0) throw new Error(`${command}: ${stderr}`);
  return (performance.now() - began) / 1000;
}

/** Points and restores of a tree of 100 000 small and some large files by a mover that has been at work before, each beside its peer in the same run. */
export function storeBenches(folder: string, wanted: (name: string) => boolean, runs: number, report: (r: Result) => void): void {
  const tree = `${folder}/tree`;
  const { files, bytes } = makeSampleTree(tree, 100_000, 1_150_000_000);
  makeSampleTree(`${folder}/warm-up`, 20_000, 40_000_000, 11);
  process.stderr.write(`tree: ${files} files, ${(bytes / 1e9).toFixed(2)} GB\n`);
  const archive = `${folder}/peer.tar.zst.enc`;
  const tar = `tar -C ${tree} -c . | zstd -q -1 -T2 | openssl enc -aes-256-ctr -pass pass:bench -pbkdf2 -out ${archive}`;
  const untar = `mkdir ${folder}/peer-back && openssl enc -d -aes-256-ctr -pass pass:bench -pbkdf2 -in ${archive} | zstd -q -d | tar -C ${folder}/peer-back -x`;
  const measure = (name: string, peerName: string, mine: (run: number) => { seconds: number; peakMb: number }, theirs: () => number) => {
    const a: number[] = [];
    const b: number[] = [];
    let peak = 0;
    for (let run = 0; run < runs; run++) {
      const m = mine(run);
      a.push(m.seconds);
      peak = Math.max(peak, m.peakMb);
      b.push(theirs());
    }
    const [ours_s, peer_s] = [median(a), median(b)];
    report({ bench: name, peer: peerName, ours_s, peer_s, ratio: peer_s / ours_s, runs, peak_mb: peak });
  };
  const clean = () => {
    fs.rmSync(`${folder}/store`, { recursive: true, force: true });
    fs.rmSync(`${folder}/key`, { force: true });
  };
  peer(`find ${tree} -type f -print0 | xargs -0 cat > /dev/null`);
  if (wanted('first-full'))
    measure(
      'first full',
      'tar | zstd -1 -T2 | openssl enc',
      (run) => {
        clean();
        return inProcess('point', folder, `full-${run}`);
      },
      () => peer(tar),
    );
  clean();
  inProcess('point', folder, 'base');
  if (!fs.existsSync(archive)) peer(tar);
  if (wanted('restore'))
    measure(
      'restore',
      'openssl | zstd -d | tar x',
      () => {
        fs.rmSync(`${folder}/back`, { recursive: true, force: true });
        return inProcess('restore', folder, 'base');
      },
      () => {
        fs.rmSync(`${folder}/peer-back`, { recursive: true, force: true });
        return peer(untar);
      },
    );
  fs.rmSync(`${folder}/back`, { recursive: true, force: true });
  if (wanted('nothing-changed'))
    measure(
      'nothing changed',
      'find -printf',
      (run) => inProcess('point', folder, `same-${run}`, 'base'),
      () => peer(`find ${tree} -printf '%p %s %T@ %C@ %i\\n' > /dev/null`),
    );
  if (wanted('one-percent')) changes(folder, runs, tar, report);
  for (const name of ['tree', 'warm-up']) fs.rmSync(`${folder}/${name}`, { recursive: true });
  clean();
}

/** Both peers see the same changes as we do: the incremental one from a record of the tree as it was before. */
function changes(folder: string, runs: number, tar: string, report: (r: Result) => void): void {
  const tree = `${folder}/tree`;
  const record = `${folder}/record`;
  peer(`tar -g ${record} -C ${tree} -c . > /dev/null`);
  const seconds: Record<'ours' | 'all' | 'changes', number[]> = { ours: [], all: [], changes: [] };
  let peak = 0;
  for (let run = 0; run < runs; run++) {
    changeOnePercent(tree, run);
    const mine = inProcess('point', folder, `changed-${run}`, run ? `changed-${run - 1}` : 'base');
    seconds.ours.push(mine.seconds);
    peak = Math.max(peak, mine.peakMb);
    seconds.all.push(peer(tar));
    seconds.changes.push(peer(tar.replace('tar ', `tar -g ${record} `)));
  }
  const ours_s = median(seconds.ours);
  for (const [name, key] of [
    ['tar | zstd -1 -T2 | openssl enc (everything)', 'all'],
    ['tar -g | zstd -1 -T2 | openssl enc (what changed)', 'changes'],
  ] as const) {
    const peer_s = median(seconds[key]);
    report({ bench: '1 % changed', peer: name, ours_s, peer_s, ratio: peer_s / ours_s, runs, peak_mb: peak });
  }
}
