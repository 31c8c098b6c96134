import { execFileSync, spawnSync } from 'node:child_process';
import fs from 'node:fs';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { rounds } from '../../../../tests/support/by-command';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { ignoreMatcher } from './gitignore';

let base: string;
const folders: string[] = [];
const files: string[] = [];

beforeAll(() => {
  base = temporaryFolder('ignore');
  execFileSync('git', ['init', '-q', base]);
  const grow = (at: string, depth: number) => {
    for (const name of ['b', 'x.y', 'abc', 'aab']) files.push(`${at}${name}`);
    if (depth === 3) return;
    for (const name of ['a', 'ab', 'c']) {
      folders.push(`${at}${name}`);
      fs.mkdirSync(`${base}/${at}${name}`);
      grow(`${at}${name}/`, depth + 1);
    }
  };
  grow('', 0);
  for (const file of files) fs.writeFileSync(`${base}/${file}`, '');
});
afterAll(() => {
  fs.rmSync(base, { recursive: true, force: true });
});

/** What the program that the rules are of ignores. */
function ignoredByGit(patterns: readonly string[], paths: readonly string[]): Map<string, boolean> {
  fs.writeFileSync(`${base}/.git/info/exclude`, `${patterns.join('\n')}\n`);
  const { stdout, status } = spawnSync('git', ['-C', base, 'check-ignore', '--no-index', '-v', '-n', '-z', '--stdin'], {
    input: `${paths.join('\0')}\0`,
    encoding: 'latin1',
    maxBuffer: 1 << 26,
  });
  // 1: none is ignored
  expect(status).toBeLessThanOrEqual(1);
  const said = stdout.split('\0');
  const ignored = new Map<string, boolean>();
  for (let i = 0; i + 3 < said.length; i += 4) ignored.set(said[i + 3]!, said[i + 2] !== '' && !said[i + 2]!.startsWith('!'));
  return ignored;
}

const piece = fc.constantFrom('a', 'b', 'ab', '*', '?', '[ab]', '[!a]', '[^b]', '[a-c]', '.', '\\*', '\\a', 'c', 'x.y');
const part = fc.oneof(
  { weight: 5, arbitrary: fc.array(piece, { minLength: 1, maxLength: 4 }).map((p) => p.join('')) },
  { weight: 1, arbitrary: fc.constant('**') },
);
const pattern = fc
  .record({
    again: fc.constantFrom('', '', '', '!'),
    top: fc.constantFrom('', '', '/'),
    parts: fc.array(part, { minLength: 1, maxLength: 3 }),
    end: fc.constantFrom('', '', '/'),
  })
  .map(({ again, top, parts, end }) => again + top + parts.join('/') + end)
  // what many stars in a row mean in the middle of a name is nobody's to say
  .filter((text) => !/[^/!]\*\*|\*\*[^/]/.test(text));

describe('patterns of what is left out', () => {
  it('are read as by the program that the rules are of', () => {
    fc.assert(
      fc.property(fc.array(pattern, { minLength: 1, maxLength: 4 }), (patterns) => {
        const matches = ignoreMatcher(patterns);
        const git = ignoredByGit(patterns, [...folders, ...files]);
        for (const [paths, isFolder] of [
          [folders, true],
          [files, false],
        ] as const)
          for (const path of paths) expect([path, matches(path, isFolder)]).toEqual([path, git.get(path)]);
      }),
      { numRuns: rounds(20, 60) },
    );
  });

  it.each([
    ['*.tmp', 'a/b.tmp', true],
    ['/a', 'b/a', false],
    ['a/', 'a', false],
    ['# a', '# a', false],
    ['\\#a', '#a', true],
    ['a\\ ', 'a ', true],
    ['**/cache/**', 'x/cache/y/z', true],
    ['a/**/b', 'a/b', true],
    ['a/**', 'a', false],
    ['[]a]', ']', true],
  ])('%s against %s', (pattern, text, ignored) => {
    expect(ignoreMatcher([pattern])(text, false)).toBe(ignored);
  });

  it('take no more than pattern times text steps, whatever is written in them', () => {
    const evil = 'a'.repeat(4000);
    expect(ignoreMatcher([`${'*a'.repeat(200)}b`])(evil, false)).toBe(false);
    expect(ignoreMatcher([`${'**/a/'.repeat(100)}b`])(`${'a/'.repeat(2000)}c`, false)).toBe(false);
  });
});
