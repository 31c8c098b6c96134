import { execFileSync } from 'node:child_process';
import fs from 'node:fs';
import { pathFilter } from '@lithodex/core';
import { closeFile, openFolderBeneath, openTop, posix, type ItemKind, type TreeEntry } from '@lithodex/engine';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { compareFolder, compareItem, treeNow } from './compare';
import { accountOf } from './accounts';
import { describeIn, namesIn, storedForm } from './folder-listing';
import { HostLimits, usualBounds, type HostBounds } from './host-limits';
import { LiveTree } from './live-tree';
import { lookAhead } from './look-ahead';
import { discover, probe } from './probe';
import { surveyTree } from './survey';
import { tarEnd, tarHeader, tarPadding } from './tar-writer';

const any = HostLimits.none;
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
    expect(probe(base, null, any)).toEqual({ ok: true, findings: [], looked: 6, complete: true });
  });

  it('names what an account may not read, and why that matters', () => {
    const { ok, findings } = probe(base, 'nobody', any);
    expect(ok).toBe(true);
    expect(findings.map((f) => f.path).sort()).toEqual(['closed', 'private']);
    expect(findings.every((f) => f.neededFor.includes('missing from every point'))).toBe(true);
  });

  it.each([
    ['/does/not/exist', null, 'no such folder'],
    ['relative', null, 'from the root'],
    ['/etc/passwd', null, 'not a folder'],
    ['/tmp', 'no-such-user', 'no account'],
  ])('refuses %s read as %s: %s', (folder, user, why) => {
    const { ok, findings } = probe(folder, user, any);
    expect(ok).toBe(false);
    expect(findings[0]?.message).toContain(why);
  });

  it('leaves the rights of the process as they were', () => {
    const groups = process.getgroups!();
    probe(base, 'nobody', any);
    expect(fs.readFileSync(`${base}/private`, 'utf8')).toBe('p');
    expect(accountOf('root')).toMatchObject({ uid: 0, gid: 0 });
    expect(process.getgroups!()).toEqual(groups);
  });
});

describe('looking into a source', () => {
  it('lists folders first and says what can not be entered', () => {
    expect(discover(base, '', 'nobody', any).map((r) => [r.name, r.kind, r.readable])).toEqual([
      ['closed', 'folder', false],
      ['open', 'folder', true],
      ['private', 'file', true],
    ]);
    expect(discover(base, 'open', null, any).map((r) => r.name)).toEqual(['inner', 'a.txt', 'b.tmp']);
  });

  it('surveys what a run would take, without what is left out', () => {
    const missed: string[] = [];
    const survey = surveyTree(
      base,
      pathFilter([], ['*.tmp']),
      [`${base}/open/inner`],
      'nobody',
      any,
      (path) => missed.push(path),
      () => false,
    );
    expect(survey).toEqual({ items: 4, files: 2, bytes: 4 });
    expect(missed).toEqual(['closed']);
  });

  it('looks ahead: what exists, what is newer, how much room', () => {
    const mtime = fs.statSync(`${base}/private`, { bigint: true }).mtimeNs;
    const places = [
      { base, path: 'private', mtimeNs: String(mtime - 1n) },
      { base, path: 'open/a.txt', mtimeNs: String(mtime + 10_000_000_000n) },
      { base: `${base}/none`, path: 'x', mtimeNs: '0' },
    ];
    expect(lookAhead(places, `${base}/none/deep`, any, undefined)).toMatchObject({
      exist: 2,
      newer: 1,
      writable: true,
      nearest: base,
      refused: '',
    });
  });
});

describe('comparing a folder with what is there now', () => {
  it('tells same, changed, gone and new apart', () => {
    const tree = LiveTree.open(base, null, any);
    const entries = tree.inFolder('open', (fd) => namesIn(fd).map((name) => storedForm(describeIn(fd, name)!)));
    fs.writeFileSync(`${base}/open/a.txt`, 'longer than before');
    fs.rmSync(`${base}/open/b.tmp`);
    fs.writeFileSync(`${base}/open/new`, '');
    expect(compareFolder(tree, 'open', entries).map((r) => [r.name, r.since])).toEqual([
      ['a.txt', 'changed'],
      ['b.tmp', 'gone'],
      ['inner', 'same'],
      ['new', 'new'],
    ]);
    expect(compareFolder(tree, 'nowhere', entries).every((r) => r.since === 'gone')).toBe(true);
    expect(compareFolder(treeNow(`${base}/nowhere`, null, any), '', entries).every((r) => r.since === 'gone')).toBe(true);
    tree.close();
  });
});

describe('whoever owns a source', () => {
  const outside = '/etc';
  beforeEach(() => {
    fs.symlinkSync(outside, `${base}/door`);
  });

  it.each(['../..', 'door', 'open/../..', '/etc', 'door/ssl'])('can not have %s listed', (path) => {
    expect(() => discover(base, path, null, any)).toThrow();
    expect(() => LiveTree.open(base, null, any).list(path)).toThrow();
    expect(() => LiveTree.open(base, null, any).openFile(`${path}/passwd`, 0)).toThrow();
  });

  it('can not have a source, or a folder above it that is theirs, lead elsewhere', () => {
    expect(() => LiveTree.open(`${base}/door`, null, any)).toThrow('links are not followed');
    expect(probe(`${base}/door`, null, any).findings[0]?.message).toContain('is a link');
    fs.chownSync(base, 65534, 65534);
    fs.mkdirSync(`${base}/inner`);
    fs.symlinkSync(`${base}/inner`, `${base}/turned`);
    fs.mkdirSync(`${base}/inner/source`);
    expect(() => LiveTree.open(`${base}/turned/source`, null, any)).toThrow('links are not followed');
  });

  it('is not in the way of links that the administrator set', () => {
    fs.mkdirSync(`${base}/real/deep`, { recursive: true });
    fs.symlinkSync('../real/./deep', `${base}/open/way`);
    fs.mkdirSync(`${base}/real/deep/source`);
    const tree = LiveTree.open(`${base}/open/way/source`, null, any);
    expect(tree.list('').names).toEqual([]);
    tree.close();
  });

  it('can not have a file of others compared through a link', async () => {
    const then = storedForm(LiveTree.open(outside, null, any).inFolder('', (fd) => describeIn(fd, 'passwd')!));
    const nothing = {} as never;
    expect(await compareItem(LiveTree.open(base, null, any), 'door/passwd', then, nothing)).toMatchObject({ since: 'gone' });
    expect(compareFolder(LiveTree.open(base, null, any), 'door', [then])).toMatchObject([{ since: 'gone' }]);
  });

  it('is read with the groups of the account, and without those of the mover', () => {
    fs.mkdirSync(`${base}/shared`);
    fs.chmodSync(`${base}/shared`, 0o750);
    fs.chownSync(`${base}/shared`, 0, 0);
    expect(discover(base, '', 'nobody', any).find((r) => r.name === 'shared')?.readable).toBe(false);
    const account = { uid: 65534, gid: 65534, groups: [65534, 4242] };
    fs.chownSync(`${base}/shared`, 0, 4242);
    expect(() => posix.asAccount({ ...account, groups: [65534] }, () => fs.readdirSync(`${base}/shared`))).toThrow();
    expect(posix.asAccount(account, () => fs.readdirSync(`${base}/shared`))).toEqual([]);
  });

  it('is never read with more rights because its account is gone', () => {
    expect(() => LiveTree.open(base, 'no-such-user', any)).toThrow('no such account');
    expect(() =>
      surveyTree(
        base,
        pathFilter([], []),
        [],
        'no-such-user',
        any,
        () => undefined,
        () => false,
      ),
    ).toThrow('no such account');
  });
});

describe('opening', () => {
  it('leaves nothing open but what it gives, by whatever way it gets there', () => {
    fs.mkdirSync(`${base}/there/below`, { recursive: true });
    fs.symlinkSync(`${base}/there`, `${base}/by-link`);
    fs.chmodSync(base, 0o755);
    const open = () => fs.readdirSync('/proc/self/fd').length;
    const before = open();
    for (const path of ['there/below', 'by-link/below', 'by-link/missing', 'by-link', 'open/a.txt/x']) {
      try {
        closeFile(openTop(`${base}/${path}`));
      } catch {
        // refused, which must leave nothing open either
      }
    }
    const top = openTop(base);
    closeFile(openFolderBeneath(top, 'there/below'));
    expect(() => openFolderBeneath(top, 'there/none')).toThrow();
    closeFile(top);
    expect(open()).toBe(before);
  });
});

describe('what a mover may do on its host', () => {
  const bounds = (more: Partial<HostBounds> = {}) =>
    new HostLimits({ ...usualBounds([`${base}/closed`, `${base}/open/a.txt`]), read: [base], ...more });

  it('is not to show or read its own things, nor those of targets, nor what is out of bounds', () => {
    const limits = bounds();
    expect(discover(base, '', null, limits).map((r) => r.name)).toEqual(['open', 'private']);
    expect(discover(base, 'open', null, limits).map((r) => r.name)).toEqual(['inner', 'b.tmp']);
    expect(() => discover(base, 'closed', null, limits)).toThrow('keeps its own things');
    expect(() => discover(`${base}/closed`, '', null, limits)).toThrow('keeps its own things');
    expect(probe(`${base}/closed`, null, limits)).toMatchObject({ ok: false });
    expect(probe('/etc', null, limits).findings[0]?.message).toContain('do not name it for reading');
    fs.writeFileSync(`${base}/open/inner/lithodex-store.json`, '{}');
    fs.mkdirSync(`${base}/open/inner/packs`);
    for (const path of ['open/inner', 'open/inner/packs'])
      expect(() => discover(base, path, null, limits)).toThrow('a target keeps its data there');
  });

  it('is kept from its own things also where all of the host is one tree', () => {
    const tree = LiveTree.open('/', null, new HostLimits(usualBounds(['/etc/hostname', '/var/lib'])));
    try {
      expect(tree.at('etc')).toBe('/etc');
      expect(tree.ownNames('etc')?.has('hostname')).toBe(true);
      expect(() => tree.openFile('etc/hostname', fs.constants.O_RDONLY)).toThrow('keeps its own things');
      expect(() => tree.list('var/lib/dpkg')).toThrow('keeps its own things');
    } finally {
      tree.close();
    }
  });

  it('is to restore only where it was told, and to folders of the system only what was taken there', () => {
    const limits = bounds({ write: ['/', `${base}/usr/local`], backOnly: [`${base}/usr`] });
    const may = (path: string, cameFrom?: string) => {
      fs.mkdirSync(path, { recursive: true });
      const top = openTop(path);
      try {
        limits.checkWrite(top, cameFrom);
        return true;
      } catch {
        return false;
      } finally {
        closeFile(top);
      }
    };
    expect(may(`${base}/open`)).toBe(true);
    expect(may(`${base}/closed`)).toBe(false);
    expect(may(`${base}/closed/deep`)).toBe(false);
    expect(may(`${base}/usr/bin`)).toBe(false);
    expect(may(`${base}/usr/bin`, `${base}/open`)).toBe(false);
    expect(may(`${base}/usr/bin`, `${base}/usr`)).toBe(true);
    expect(may(`${base}/usr/local/share`)).toBe(true);
    fs.writeFileSync(`${base}/open/inner/lithodex-store.json`, '{}');
    expect(may(`${base}/open/inner/new`)).toBe(false);
    expect(() => bounds({ write: [] }).checkTarget(`${base}/closed/new/store`)).toThrow('keeps its own things');
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
