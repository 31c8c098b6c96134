import { createHash, randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { closePools, findItem, HostLimits, OpenedTrees, type RestoreContext } from '@lithodex/connectors';
import { DiskFolder, Store } from '@lithodex/engine';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { pointRequest, quietly } from '../../../../tests/support/store-kit';
import { takePoint } from '../work/take-point';
import { Restored, type Drilled } from './drill-room';
import { FolderRoom } from './folder-room';

let base: string;
let room: FolderRoom;
let restored: Restored;
let place: string;
const files: Readonly<Record<string, string>> = {
  'berths/a.txt': 'berth 1 is free\n'.repeat(500),
  'berths/deep/b.txt': 'berth 2',
  'empty.txt': '',
  'ünïcode ☂.txt': 'fog',
};
const sum = (text: string) => createHash('sha256').update(text).digest('hex');

/** A room for a point of the folder `source`, as a drill has it. */
async function roomOf(stopped = () => false, expected = 10_000): Promise<void> {
  const target = fs.mkdtempSync(`${base}/store-`);
  const store = await Store.create(new DiskFolder(target), randomBytes(32), new Date());
  const { root, top } = await takePoint(store, pointRequest(`${base}/source`, 't1', null), quietly);
  const point = { kept: store, store, root, top };
  restored = new Restored();
  const ctx: RestoreContext = {
    taskId: 't2',
    trial: false,
    edited: undefined,
    limits: HostLimits.none,
    phase: () => undefined,
    note: () => undefined,
    done: (item) => {
      restored.add(item);
    },
    drain: () => undefined,
    moved: () => undefined,
    stopped,
  };
  const insides = new OpenedTrees();
  const pick = { path: '', to: '', base: '', open: () => Promise.resolve(point), find: () => findItem(point, '', insides) };
  const drilled: Drilled = { ctx, pick, point };
  place = `${base}/rooms/t2`;
  room = new FolderRoom(drilled, place, expected);
}

beforeEach(async () => {
  base = temporaryFolder('room');
  fs.mkdirSync(`${base}/source/berths/deep`, { recursive: true });
  for (const [name, text] of Object.entries(files)) fs.writeFileSync(`${base}/source/${name}`, text);
  fs.symlinkSync('/etc', `${base}/source/away`);
  await roomOf();
});
afterEach(async () => {
  await closePools();
  fs.rmSync(base, { recursive: true, force: true });
});

describe('a folder for a drill', () => {
  it('gets all of a point, which is held against what was stored', async () => {
    await room.bringBack();
    expect(restored.result()).toMatchObject({ what: 'Everything comes back', passed: true });
    expect(await room.looks()).toEqual([{ what: 'Every file is what was stored', found: '4 files read again', passed: true }]);
    for (const [name, text] of Object.entries(files)) expect(fs.readFileSync(`${place}/${name}`, 'utf8')).toBe(text);
    expect(fs.readlinkSync(`${place}/away`)).toBe('/etc');
  });

  it('tells a file that is not what was stored, and one that is gone', async () => {
    await room.bringBack();
    fs.writeFileSync(`${place}/berths/deep/b.txt`, 'berth 3');
    expect(await room.looks()).toMatchObject([{ found: '1 file differ, first berths/deep/b.txt', passed: false }]);
    fs.rmSync(`${place}/empty.txt`);
    expect(await room.looks()).toMatchObject([{ found: expect.stringMatching(/^2 files differ/) as string, passed: false }]);
  });

  it('looks at files by their sum and by what is in them', async () => {
    await room.bringBack();
    const look = (more: { path: string; sum?: string; holds?: string }) => room.look({ check: 'file', sum: '', holds: '', ...more });
    const text = files['berths/a.txt']!;
    expect(await look({ path: 'berths/a.txt', sum: sum(text), holds: 'free\nberth' })).toMatchObject({ passed: true });
    expect(await look({ path: 'berths/a.txt', sum: sum('other') })).toMatchObject({ found: `its sum is ${sum(text)}`, passed: false });
    expect(await look({ path: 'berths/a.txt', holds: 'taken' })).toMatchObject({ found: 'the text is not in it', passed: false });
    expect(await look({ path: 'empty.txt', sum: sum('') })).toMatchObject({ passed: true });
    expect(await look({ path: 'ünïcode ☂.txt', holds: 'fog' })).toMatchObject({ passed: true });
  });

  it.each(['nothing', 'berths', 'away/hostname', '../../source/empty.txt', '/etc/hostname', ''])(
    'looks at no file at %j, in the point or out of it',
    async (path) => {
      await room.bringBack();
      expect(await room.look({ check: 'file', path, sum: '', holds: '' })).toMatchObject({ found: 'it is not there', passed: false });
    },
  );

  it('counts files below a folder, and none where a link leads away', async () => {
    await room.bringBack();
    const count = (path: string, least: number) => room.look({ check: 'count', path, least });
    expect(await count('', 4)).toMatchObject({ found: '4 files', passed: true });
    expect(await count('berths', 3)).toMatchObject({ what: 'At least 3 files below berths', found: '2 files', passed: false });
    expect(await count('away', 1)).toMatchObject({ found: '0 files', passed: false });
    expect(await count('../../source', 1)).toMatchObject({ found: '0 files', passed: false });
  });

  it('finds a text that lies across the pieces in which a file is read', async () => {
    const wanted = 'the lamp is lit';
    fs.writeFileSync(
      `${base}/source/long.bin`,
      Buffer.concat([Buffer.alloc((1 << 20) - 7, 'x'), Buffer.from(wanted), Buffer.alloc(999, 'y')]),
    );
    await roomOf();
    await room.bringBack();
    expect(await room.look({ check: 'file', path: 'long.bin', sum: '', holds: wanted })).toMatchObject({ passed: true });
    expect(await room.look({ check: 'file', path: 'long.bin', sum: '', holds: `${wanted}x` })).toMatchObject({ passed: false });
  });

  it('knows nothing of databases and machines', async () => {
    expect(await room.look({ check: 'service', name: 'cron' })).toBeUndefined();
    expect(await room.look({ check: 'query', database: 'a', sql: 'SELECT 1', is: 'equal', value: '1' })).toBeUndefined();
    expect(room.told()).toEqual({ LITHODEX_DRILL_FOLDER: place });
  });

  it('is empty at the begin whatever was left in it, and gone at the end', async () => {
    fs.mkdirSync(`${place}/left`, { recursive: true });
    fs.writeFileSync(`${place}/berths`, 'a file where a folder goes');
    await room.clear();
    await room.bringBack();
    expect(fs.readdirSync(place).sort()).toEqual(fs.readdirSync(`${base}/source`).sort());
    await room.remove();
    expect(fs.existsSync(place)).toBe(false);
    await room.remove();
  });

  it('is not filled where what comes back has no room on the host', async () => {
    await roomOf(undefined, 1e18);
    await expect(room.bringBack()).rejects.toMatchObject({ code: 'DRILL_FAILED', message: expect.stringContaining('are free') as string });
    expect(fs.readdirSync(place)).toEqual([]);
  });

  it('is left where somebody stops it', async () => {
    await roomOf(() => true);
    await expect(room.bringBack()).rejects.toMatchObject({ code: 'STOPPED' });
  });
});

describe('what came back', () => {
  const item = (action: string, remark = '') => ({ action, bytes: 5, path: 'a/b', remark });

  it('passes where something did and nothing failed', () => {
    const some = new Restored();
    expect(some.result()).toMatchObject({ found: 'nothing came back', passed: false });
    some.add(item('write'));
    some.add(item('same'));
    expect(some).toMatchObject({ items: 2, bytes: 10, failed: 0 });
    expect(some.result()).toMatchObject({ found: '2 items', passed: true });
  });

  it('names the first that failed, and how many', () => {
    const some = new Restored();
    some.add(item('write'));
    some.add(item('failed', 'its sum does not match'));
    some.add({ ...item('failed', 'something else'), path: 'c' });
    expect(some).toMatchObject({ bytes: 5 });
    expect(some.result()).toMatchObject({ found: '2 items did not, first a/b: its sum does not match', passed: false });
  });
});
