import { execFileSync } from 'node:child_process';
import fs from 'node:fs';
import { pathFilter } from '@lithodex/core';
import type { ItemKind, TreeEntry } from '@lithodex/engine';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { accountOf } from './accounts';
import { compareFolder } from './compare';
import { describeEntry, listNames, statEntry, storedForm } from './folder-listing';
import { lookAhead } from './look-ahead';
import { discover, probe } from './probe';
import { surveyTree } from './survey';
import { tarEnd, tarHeader, tarPadding } from './tar-writer';

let base: string;
beforeEach(() => {
  base = temporaryFolder('look');
  fs.chmodSync(base, 0o755);
  fs.mkdirSync(`${base}/open/inner`, { recursive: true });
  fs.mkdirSync(`${base}/closed`);
  fs.writeFileSync(`${base}/open/a.txt`, 'aaa');
  fs.writeFileSync(`${base}/open/b.tmp`, 'bb');
  fs.writeFileSync(`${base}/private`, 'p');
  fs.chmodSync(`${base}/closed`, 0o700);
  fs.chmodSync(`${base}/private`, 0o600);
});
afterEach(() => {
  fs.rmSync(base, { recursive: true, force: true });
});

describe('testing a connection', () => {
  it('finds nothing to say where everything can be read', () => {
    expect(probe(base, undefined)).toEqual({ ok: true, findings: [], looked: 6, complete: true });
  });

  it('names what an account may not read, and why that matters', () => {
    const { ok, findings } = probe(base, 'nobody');
    expect(ok).toBe(true);
    expect(findings.map((f) => f.path).sort()).toEqual(['closed', 'private']);
    expect(findings.every((f) => f.neededFor.includes('missing from every point'))).toBe(true);
  });

  it.each([
    ['/does/not/exist', undefined, 'no such folder'],
    ['relative', undefined, 'from the root'],
    ['/etc/passwd', undefined, 'not a folder'],
    ['/tmp', 'no-such-user', 'no account'],
  ])('refuses %s read as %s: %s', (folder, user, why) => {
    const { ok, findings } = probe(folder, user);
    expect(ok).toBe(false);
    expect(findings[0]?.message).toContain(why);
  });

  it('leaves the rights of the process as they were', () => {
    probe(base, 'nobody');
    expect(fs.readFileSync(`${base}/private`, 'utf8')).toBe('p');
    expect(accountOf('root')).toEqual({ uid: 0, gid: 0 });
  });
});

describe('looking into a source', () => {
  it('lists folders first and says what can not be entered', () => {
    expect(discover(base, '', 'nobody').map((r) => [r.name, r.kind, r.readable])).toEqual([
      ['closed', 'folder', false],
      ['open', 'folder', true],
      ['private', 'file', true],
    ]);
    expect(discover(base, 'open', undefined).map((r) => r.name)).toEqual(['inner', 'a.txt', 'b.tmp']);
  });

  it('surveys what a run would take, without what is left out', () => {
    const missed: string[] = [];
    const survey = surveyTree(
      base,
      pathFilter([], ['*.tmp']),
      [`${base}/open/inner`],
      accountOf('nobody'),
      (path) => missed.push(path),
      () => false,
    );
    expect(survey).toEqual({ items: 4, files: 2, bytes: 4 });
    expect(missed).toEqual(['closed']);
  });

  it('looks ahead: what exists, what is newer, how much room', () => {
    const mtime = fs.statSync(`${base}/private`, { bigint: true }).mtimeNs;
    const places = [
      { path: `${base}/private`, mtimeNs: String(mtime - 1n) },
      { path: `${base}/open/a.txt`, mtimeNs: String(mtime + 10_000_000_000n) },
      { path: `${base}/none/x`, mtimeNs: '0' },
    ];
    expect(lookAhead(places, `${base}/none/deep`)).toMatchObject({ exist: 2, newer: 1, writable: true, nearest: base });
  });
});

describe('comparing a folder with what is there now', () => {
  it('tells same, changed, gone and new apart', () => {
    const entries = listNames(`${base}/open`).map((name) =>
      storedForm(describeEntry(`${base}/open/${name}`, name, statEntry(`${base}/open/${name}`))),
    );
    fs.writeFileSync(`${base}/open/a.txt`, 'longer than before');
    fs.rmSync(`${base}/open/b.tmp`);
    fs.writeFileSync(`${base}/open/new`, '');
    expect(compareFolder(base, 'open', entries).map((r) => [r.name, r.since])).toEqual([
      ['a.txt', 'changed'],
      ['b.tmp', 'gone'],
      ['inner', 'same'],
      ['new', 'new'],
    ]);
    expect(compareFolder(base, 'nowhere', entries).every((r) => r.since === 'gone')).toBe(true);
  });
});

describe('tar headers', () => {
  const item = (kind: ItemKind, more: Partial<TreeEntry> = {}): TreeEntry => ({
    name: 'x',
    kind,
    mode: 0o640,
    uid: 12,
    gid: 34,
    mtimeNs: 1_700_000_000_500_000_000n,
    ctimeNs: 0n,
    inode: 1,
    size: 0,
    ...more,
  });
  const names = { owner: 'owner', group: 'group' };

  it('are read by tar as they were meant', () => {
    const long = `${'deep/'.repeat(40)}\u00fcber long`;
    const bytes = Buffer.from(long).toString('latin1');
    const parts = [
      tarHeader('plain', item('file', { size: 3 }), names)!,
      Buffer.from('abc'),
      tarPadding(3),
      tarHeader(bytes, item('link', { linkTarget: 'y'.repeat(150) }), names)!,
      tarHeader('twin', item('file', { size: 3 }), names, 'plain')!,
      tarHeader('huge', item('file', { size: 0, uid: 3_000_000, mtimeNs: -5_000_000_000n }), names)!,
      tarEnd,
    ];
    fs.writeFileSync(`${base}/x.tar`, Buffer.concat(parts));
    const list = execFileSync('tar', ['--numeric-owner', '-tvf', `${base}/x.tar`], {
      encoding: 'utf8',
      env: { ...process.env, TZ: 'UTC', LC_ALL: 'C.UTF-8' },
    }).split('\n');
    expect(list[0]).toMatch(/^-rw-r----- 12\/34\s+3 2023-11-14 22:13(:20)? plain$/);
    expect(list[1]).toContain(`${long} -> ${'y'.repeat(150)}`);
    expect(list[2]).toContain('twin link to plain');
    expect(list[3]).toMatch(/3000000\/34\s+0 1969-12-31/);
  });

  it('leave sockets out', () => {
    expect(tarHeader('s', item('socket'), names)).toBeUndefined();
  });
});
