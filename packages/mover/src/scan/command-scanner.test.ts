import fs from 'node:fs';
import os from 'node:os';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { CommandScanner, ScannerCommand } from './command-scanner';

let base: string;

beforeEach(() => {
  base = temporaryFolder('scanner');
});
afterEach(() => {
  fs.rmSync(base, { recursive: true, force: true });
});

const leftOver = () => fs.readdirSync(os.tmpdir()).filter((name) => name.startsWith(`lithodex-scanned-${process.pid}-`));

/** A scanner that is a script of these lines; `$1` is the folder of the files. */
function scannerOf(lines: string, more: object = {}): CommandScanner<string> {
  const command = `${base}/gull`;
  fs.writeFileSync(command, `#!/bin/sh\n${lines}\n`, { mode: 0o755 });
  const by = ScannerCommand.parse({ command, args: ['{folder}'], finds: '^(?<file>.+): (?<rule>.+) FOUND$', ...more });
  return new CommandScanner<string>('gull', by);
}

function give(scanner: CommandScanner<string>, files: Readonly<Record<string, string>>): void {
  for (const [name, content] of Object.entries(files)) {
    const file = scanner.file(name);
    for (const piece of content.match(/.{1,5}/gs) ?? []) file.write(Buffer.from(piece));
    file.done();
  }
}

const matching = 'grep -rl bad "$1" | sed "s/$/: Gull.Bad FOUND/"; exit 1';

describe('a scanner with a command line', () => {
  it('is given contents by numbers, and what it finds is told by what they are', async () => {
    const scanner = scannerOf(matching);
    give(scanner, { 'odd name\n": FOUND': 'all bad', fine: 'all good', empty: '' });
    expect(await scanner.scan()).toEqual([['odd name\n": FOUND', { rule: 'Gull.Bad', about: 'found by gull', grade: 'infected' }]]);
    expect(leftOver()).toEqual([]);
    expect(await scanner.scan()).toEqual([]);
  });

  it('reads files that only it can, and sees nothing of what the mover was started with', async () => {
    const scanner = scannerOf('stat -c "%n: %a FOUND" "$1" "$1"/item-0; env | grep -q HOME && exit 7; exit 0');
    give(scanner, { one: 'x' });
    expect((await scanner.scan()).map(([, f]) => f.rule)).toEqual(['600']);
  });

  it('says what it said where it does not end as it should, and leaves nothing', async () => {
    const scanner = scannerOf('echo "no signatures there" >&2; exit 2');
    give(scanner, { one: 'x' });
    await expect(scanner.scan()).rejects.toMatchObject({
      code: 'SCANNER_FAILED',
      message: 'The scanner gull ended with status 2: no signatures there',
    });
    expect(leftOver()).toEqual([]);
  });

  it('that is not there, or is killed, is told of', async () => {
    const gone = scannerOf('exit 0', { command: `${base}/nothing` });
    give(gone, { one: 'x' });
    await expect(gone.scan()).rejects.toThrow(/could not be run or was ended/);
    const killed = scannerOf('kill -9 $$');
    give(killed, { one: 'x' });
    await expect(killed.scan()).rejects.toThrow(/could not be run or was ended/);
  });

  it('takes other statuses where its settings say so', async () => {
    const scanner = scannerOf('echo "$1/item-0: Odd FOUND"; exit 40', { statuses: [0, 40] });
    give(scanner, { one: 'x' });
    expect(await scanner.scan()).toHaveLength(1);
  });

  it('is full after so many files', () => {
    const scanner = scannerOf('exit 0');
    give(scanner, Object.fromEntries(Array.from({ length: 499 }, (_, i) => [`f${i}`, ''])));
    expect(scanner.isFull).toBe(false);
    give(scanner, { last: '' });
    expect(scanner.isFull).toBe(true);
    scanner.end();
    expect(scanner.isFull).toBe(false);
    expect(leftOver()).toEqual([]);
  });

  it('has to be named by its whole path', () => {
    expect(ScannerCommand.safeParse({ command: 'gull', args: [], finds: 'x' }).success).toBe(false);
    expect(ScannerCommand.safeParse({ command: '/gull', args: [], finds: 'x', shell: true }).success).toBe(false);
  });
});
