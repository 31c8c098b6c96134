import { execFileSync } from 'node:child_process';
import fs from 'node:fs';
import path from 'node:path';
import { instantOf, posix } from '@lithodex/engine';

const bytes = (base: string, name: Buffer) => Buffer.concat([Buffer.from(`${base}/`), name]);

/** Builds a tree with everything that is awkward about files; one of them is mostly a hole of `sparseBytes`. */
export function makeNastyTree(base: string, sparseBytes = 1 << 27): void {
  fs.mkdirSync(base, { recursive: true });
  const write = (name: Buffer | string, content: string | Buffer) => {
    fs.writeFileSync(bytes(base, Buffer.from(name)), content);
  };
  write('new\nline.txt', 'one');
  write('quotes\'"`$(x).txt', 'two');
  write(Buffer.from([0x62, 0xff, 0xfe, 0x80, 0x2e, 0x62]), 'not utf-8');
  write('ü-composed-é.txt', 'three');
  write('percent%41 100%.txt', 'four');
  write(' leading and trailing ', 'five');
  write('-rf', 'six');
  write('x'.repeat(255), 'long name');
  write('empty', '');
  fs.mkdirSync(`${base}/empty-folder`);
  let deep = `${base}/deep`;
  fs.mkdirSync(deep);
  for (let i = 0; i < 60; i++) {
    deep += `/level-${i}`;
    fs.mkdirSync(deep);
  }
  fs.writeFileSync(`${deep}/bottom.txt`, 'deep down');
  write('hard-1', 'linked content');
  fs.linkSync(`${base}/hard-1`, `${base}/empty-folder/../hard-2`);
  fs.linkSync(`${base}/hard-1`, `${base}/deep/hard-3`);
  fs.symlinkSync('nowhere/at/all', `${base}/dangling`);
  fs.symlinkSync('loop-b', `${base}/loop-a`);
  fs.symlinkSync('loop-a', `${base}/loop-b`);
  fs.symlinkSync('/etc', `${base}/leads-outside`);
  execFileSync('mkfifo', [`${base}/fifo`]);
  posix.makeNode(Buffer.from(`${base}/null-device`), 0o020666, 0x103);
  const sparse = fs.openSync(`${base}/sparse`, 'w');
  fs.writeSync(sparse, 'at the start');
  fs.writeSync(sparse, Buffer.alloc(300_000, 7), 0, 300_000, sparseBytes / 2);
  fs.ftruncateSync(sparse, sparseBytes);
  fs.closeSync(sparse);
  write('mode-000', 'closed');
  write('setuid', 'program');
  write('sticky', 's');
  fs.mkdirSync(`${base}/sticky-folder`);
  fs.chmodSync(`${base}/sticky-folder`, 0o1777);
  fs.chmodSync(`${base}/sticky`, 0o1644);
  fs.chownSync(`${base}/setuid`, 1234, 5678);
  fs.chmodSync(`${base}/setuid`, 0o6755);
  fs.chmodSync(`${base}/mode-000`, 0);
  write('attributes', 'with attributes');
  posix.writeAttribute(Buffer.from(`${base}/attributes`), 'user.berth', Buffer.from([0, 255, 1]));
  posix.writeAttribute(Buffer.from(`${base}/empty-folder`), 'user.kind', Buffer.from('folder'));
  execFileSync('setfacl', ['-m', 'u:1234:r', `${base}/attributes`]);
  write('before-1970', 'old');
  posix.setModified(Buffer.from(`${base}/before-1970`), instantOf(-86_400_000_000_001n));
  write('after-2038', 'future');
  posix.setModified(Buffer.from(`${base}/after-2038`), instantOf(4_000_000_000_123_456_789n));
  const big = Buffer.alloc(9_000_000);
  for (let i = 0; i < big.length; i++) big[i] = (i * 2654435761) >>> 13;
  write('big.bin', big);
  posix.setModified(Buffer.from(`${base}/empty-folder`), instantOf(1_000_000_000_000_000_007n));
  posix.setModified(Buffer.from(base), instantOf(1_111_111_111_222_222_222n));
}

/**
 * An independent description of a tree, made with find, b2sum, cksum, getfattr and getfacl: one line an entry. Two trees with the same description hold the same.
 */
export function describeTree(base: string): string {
  const run = (command: string) =>
    execFileSync('bash', ['-c', `set -o pipefail; cd "$0" && ${command}`, base], {
      encoding: 'latin1',
      maxBuffer: 1 << 28,
      env: { ...process.env, LC_ALL: 'C' },
    });
  const facts = run(`find . -printf '%P|%y|%m|%U|%G|%T@|%l|%n\\0' | sed -z 's/|d|\\(.*\\)|[0-9]*$/|d|\\1|-/' | sort -z | tr '\\0' '\\n'`);
  const sizes = run(`find . -type f -printf '%P|%s\\0' | sort -z | tr '\\0' '\\n'`);
  // over what is mostly holes the strong sum takes as long as all else together
  const sums = [
    run(`find . -type f -size -256M -print0 | sort -z | xargs -0 -r b2sum -z | tr '\\0' '\\n'`),
    run(`find . -type f -size +255M -print0 | sort -z | xargs -0 -r cksum -z | tr '\\0' '\\n'`),
  ];
  const attributes = run(
    `find . \\( -type f -o -type d \\) -print0 | sort -z | xargs -0 -r getfattr -d -m - -e hex -h --absolute-names 2>/dev/null || true`,
  );
  return [facts, sizes, ...sums, attributes].join('\n--\n');
}

/** Bytes a tree takes on disk. */
export function diskUse(base: string): number {
  return Number(execFileSync('du', ['-s', '--block-size=1', base], { encoding: 'utf8' }).split('\t')[0]);
}

export function temporaryFolder(name: string): string {
  return fs.mkdtempSync(path.join(process.env['LITHODEX_TMP'] ?? '/var/tmp', `lithodex-${name}-`));
}
