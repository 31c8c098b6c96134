import { TestBed } from '@angular/core/testing';
import { describe, expect, it } from 'vitest';
import { machineFacts, point, target, treeRow, uuid, version, workloadDetail } from '../../test/samples';
import { day, hour, now, open, page, words, type Answers, type Call } from '../../test/stage';
import { ApiFailure } from '../data/api';
import { Picks } from '../data/picks';

const points = [3, 2, 1].map((age, i) => point(i + 1, now - age * day));
const tree = (call: Call) => ({
  path: (call.query?.['path'] ?? '') as string,
  rows: call.query?.['path']
    ? [treeRow('berths.csv', { path: 'plans/berths.csv' })]
    : [
        treeRow('plans', { kind: 'folder', size: 4e6, items: 10, strip: { same: 6, changed: 3, gone: 1, suspect: 0 } }),
        treeRow('<b>roster</b>.txt', { since: 'changed', versions: 4, lastGood: { pointId: uuid(1), moment: now - 3 * day } }),
        treeRow('locked', { kind: 'folder', unread: true }),
        treeRow('old.log', { since: 'gone' }),
      ],
  next: null,
  notLookedAt: false,
  inside: false,
});
const answers = (more: Answers = {}): Answers => ({ workload: workloadDetail(points), tree, ...more });
const picked = () => TestBed.inject(Picks).items();

describe('a workload', () => {
  it('says how widely its newest point is spread, and what that lacks', async () => {
    const spread = { copies: 2, media: 1, elsewhere: null, locked: 0, gaps: ['1 more copy'] };
    const s = await open('/estate/1', { answers: answers({ workload: workloadDetail(points, { spread }) }) });
    expect(words(s.one('.beds header'))).toContain('2 copies with the original, 1 medium, place unknown, 0 locked lacks 1 more copy');
  });

  it('takes how many tasks may read its source at once', async () => {
    const s = await open('/estate/1', { answers: answers({ limitSource: {} }) });
    await s.click(s.one('button.folder'));
    expect(words(s.one('lx-source-side dl'))).toContain('Folder on the mover /srv');
    await s.fill('readers', '1 task');
    expect(s.api.last('limitSource')).toMatchObject({ id: workloadDetail(points).source.id, body: { readers: 1 } });
  });

  it('hatches the bed under points that are locked, and says until when', async () => {
    const locked = points.map((p, i) => ({ ...p, copies: p.copies.map((c) => ({ ...c, lockedUntil: i ? now + 3 * day : now - day })) }));
    const s = await open('/estate/1', { answers: answers({ workload: workloadDetail(locked) }) });
    expect(s.all('lx-beds rect title').map(words)).toEqual([`${points.length - 1} points locked, the last until Thu 26 Nov 09:00`]);
  });

  it('reads its newest sound point, and shows what became of everything since', async () => {
    const suspect = point(4, now - hour, { suspect: true, unusual: 91, reasons: ['900 files look random'] });
    const s = await open('/estate/1', { answers: answers({ workload: workloadDetail([...points, suspect]) }) });
    expect(s.api.last('tree')?.id).toBe(uuid(3));
    expect(s.one('.pointline').textContent).toContain('+3 ~4 −5 files');
    const rows = s.all('.middle tbody tr').map(words);
    expect(rows[0]).toContain('▸ plans 4.00 MB');
    expect(rows[0]).toContain('3 changed, 1 gone');
    expect(rows[1]).toContain('<b>roster</b>.txt');
    expect(rows[1]).toMatch(/changed Fri 20 Nov 09:00 4$/);
    expect(rows[2]).toContain('could not be read');
    expect(rows[3]).toContain('gone');
    expect(s.all('.middle tbody b')).toEqual([]);
  });

  it('reads the point of the moment that is set, suspect or not, and says when none is that old', async () => {
    const suspect = point(4, now - hour, { suspect: true, unusual: 91, reasons: ['900 files look random'] });
    const s = await open(`/estate/1?at=${now}`, { answers: answers({ workload: workloadDetail([...points, suspect]) }) });
    expect(s.api.last('tree')?.id).toBe(uuid(4));
    expect(s.one('.pointline').textContent).toContain('unusual 91 of 100: 900 files look random');
    await s.press(',');
    expect(s.url()).toBe(`/estate/1?at=${now - day}`);
    expect(s.api.last('tree')?.id).toBe(uuid(3));
    await s.press('.');
    expect(s.url()).toBe(`/estate/1?at=${now - hour}`);
    await s.go(`/estate/1?at=${now - 9 * day}`);
    expect(s.text()).toContain('no point as old as the moment');
  });

  it('goes into folders and back with keys, the folder in the address', async () => {
    const s = await open('/estate/1', { answers: answers() });
    await s.press('Enter');
    expect(s.url()).toBe('/estate/1?path=plans');
    expect(s.api.last('tree')?.query).toMatchObject({ path: 'plans' });
    await s.press('Escape');
    expect(s.url()).toBe('/estate/1');
    await s.press('j');
    await s.press('Enter');
    expect(s.url()).toBe('/estate/1?item=<b>roster</b>.txt');
    await s.press('Escape');
    expect(s.url()).toBe('/estate/1');
  });

  it('ticks by key, gathers on the pick list once, and leads to the restore sheet', async () => {
    const s = await open('/estate/1', { answers: answers() });
    expect(s.button('Restore everything as of').textContent).toContain('Sun 22 Nov 09:00');
    await s.press('j');
    await s.press('x');
    expect(s.button('Restore 1 ticked item')).toBeTruthy();
    await s.press('p');
    expect(picked()).toEqual([
      { pointId: uuid(3), path: '<b>roster</b>.txt', workload: 'quay-1', moment: now - day, kind: 'file', size: 1000 },
    ]);
    await s.press('x');
    await s.press('p');
    expect(picked()).toHaveLength(1);
    expect(s.text()).toContain('1 on the pick list');
    await s.click(s.one('[aria-label="Tick all"]'));
    await s.click('Restore 4 ticked items');
    expect(picked()).toHaveLength(4);
    expect(s.url()).toBe('/recover/sheet');
  });

  it('restores a whole folder without ticking anything', async () => {
    const s = await open('/estate/1?path=plans', { answers: answers() });
    await s.click('Restore this folder');
    expect(picked()).toMatchObject([{ path: 'plans', kind: 'folder' }]);
  });

  it('walks into a disk like into a folder, and shows the front of a file there', async () => {
    const inside = (call: Call) => {
      const path = (call.query?.['path'] ?? '') as string;
      const rows =
        path === ''
          ? [treeRow('disk.raw', { opens: true })]
          : path === 'disk.raw'
            ? [
                treeRow('p1', { path: 'disk.raw/p1', kind: 'folder', about: 'ext4 “root”' }),
                treeRow('p2', { path: 'disk.raw/p2', kind: 'folder', unread: true, about: 'encrypted volume' }),
              ]
            : [treeRow('notes.txt', { path: `${path}/notes.txt`, mode: 0o640, uid: 1000 })];
      return { path, rows, next: null, notLookedAt: false, inside: path !== '' };
    };
    const preview = { as: 'text', of: '', text: '<b>not a tag</b>', size: 16, whole: true };
    const s = await open('/estate/1', { answers: answers({ tree: inside, preview }) });
    await s.click('▸ disk.raw');
    expect(s.all('.middle tbody tr').map(words)).toEqual([
      expect.stringContaining('ext4 “root”'),
      expect.stringContaining('encrypted volume'),
    ]);
    await s.click(s.all('.middle tbody button')[1]!);
    expect(words(s.one('lx-inside-side'))).toContain('encrypted volume');
    await s.click('▸ p1');
    expect(words(s.one('.crumbs'))).toMatch(/ \/ disk.raw \/ p1$/);
    expect(words(s.one('.middle tbody tr'))).toContain('1000:0 0640');
    await s.click('notes.txt');
    expect(s.api.last('preview')).toBeUndefined();
    await s.click('Look into it');
    expect(s.one('lx-file-preview pre').textContent).toBe('<b>not a tag</b>');
    expect(s.all('lx-file-preview b')).toEqual([]);
  });

  it('loads long folders in parts', async () => {
    const long = (call: Call) =>
      call.query?.['cursor']
        ? { path: '', rows: [treeRow('z.txt')], next: null, notLookedAt: false, inside: false }
        : { path: '', rows: [treeRow('a.txt')], next: 'after-a', notLookedAt: false, inside: false };
    const s = await open('/estate/1', { answers: answers({ tree: long }) });
    await s.click('Show more');
    expect(s.all('.middle tbody tr').map((r) => r.querySelector('button')?.textContent.trim())).toEqual(['a.txt', 'z.txt']);
    expect(s.text()).not.toContain('Show more');
  });

  it('tells an empty folder from one nobody could look into', async () => {
    const s = await open('/estate/1', { answers: answers({ tree: { path: '', rows: [], next: null, notLookedAt: true, inside: false } }) });
    expect(s.text()).toContain('could not be read when the point was taken');
    const gone = new ApiFailure('POINT_GONE', 'The point has expired or was removed.', undefined);
    s.api.answers.tree = gone;
    await s.go('/estate/1?path=x');
    expect(s.one('.middle .empty').textContent).toContain('has expired');
  });

  it('takes a point now, kept as said', async () => {
    const s = await open('/estate/1', { answers: answers({ protectOnce: { runId: 71 }, getRun: undefined }) });
    await s.click('Protect once');
    await s.click(s.one('input[value=days]'));
    await s.type('input[name=days]', '7');
    await s.type('input[name=why]', 'before the upgrade');
    await s.click('Take the point');
    expect(s.api.last('protectOnce')).toMatchObject({ id: 1, body: { keep: { by: 'days', days: 7 }, note: 'before the upgrade' } });
    expect(s.url()).toBe('/runs/71');
  });

  it('takes a fresh full as a full that takes nothing as stored', async () => {
    const s = await open('/estate/1', { answers: answers({ protectOnce: { runId: 71 }, getRun: undefined }) });
    await s.click('Protect once');
    await s.choose('select[name=kind]', 'fresh');
    await s.click('Take the point');
    expect(s.api.last('protectOnce')).toMatchObject({ id: 1, body: { kind: 'full', fresh: true, keep: { by: 'hand' } } });
  });

  it('takes a snapshot on the storage of a machine, and says what it is', async () => {
    const machine = workloadDetail(points, { kind: 'machine', machine: machineFacts });
    const s = await open('/estate/1', { answers: answers({ workload: machine, takeSnapshot: { storages: ['fast'] } }) });
    await s.click('Protect once');
    await s.choose('select[name=kind]', 'onStorage');
    expect(s.all('input[value=days]')).toEqual([]);
    await s.type('input[name=why]', 'before the upgrade');
    await s.click('Take the snapshot');
    expect(s.api.last('takeSnapshot')).toMatchObject({ id: 1, body: { name: 'before the upgrade' } });
    expect(s.all('lx-form-dialog')).toEqual([]);
    await s.click('Protect once');
    expect(s.all('select[name=kind] option').map((o) => o.getAttribute('value'))).toContain('onStorage');
  });

  it('reads what a storage keeps at its moment only, copies it to a target, or has it let go', async () => {
    const kept = point(7, now - hour, {
      kind: 'snapshot',
      runId: null,
      onStorage: { storage: 'fast', platform: 'Harbour platform', name: 'before the change' },
      copies: [
        { targetId: uuid(7), target: 'fast', madeAt: now - hour, lockedUntil: null, keepUntil: null, keepWhy: 'kept by the storage' },
      ],
    });
    const machine = workloadDetail([...points, kept], { kind: 'machine', machine: machineFacts });
    const more = { workload: machine, listTargets: page([target(1), target(2)]), copySnapshot: { runId: 71 }, removeSnapshot: {} };
    const s = await open('/estate/1', { answers: answers(more) });
    // the newest that is stored is read, unless a moment is set
    expect(s.api.last('tree')?.id).toBe(uuid(3));
    expect(s.all('button').some((b) => b.textContent.includes('Copy to a target'))).toBe(false);
    await s.go(`/estate/1?at=${now}`);
    expect(s.api.last('tree')?.id).toBe(uuid(7));
    expect(words(s.one('.pointline'))).toContain('snapshot');
    expect(words(s.one('.pointline'))).toContain('before the change, as after a loss of power');
    expect(s.one('.pointline').textContent).not.toContain('run');
    expect(s.all('button').some((b) => b.textContent.includes('Keep this point'))).toBe(false);
    await s.click('Let it go');
    expect(s.text()).toContain('removes it for all machines on it');
    await s.click(s.all('lx-certain .act.go')[0]!);
    expect(s.api.last('removeSnapshot')?.id).toBe(uuid(7));
    await s.click('Copy to a target');
    await s.choose('select[name=target]', uuid(2));
    await s.type('input[name=days]', '90');
    await s.click('Copy it');
    expect(s.api.last('copySnapshot')).toMatchObject({ id: uuid(7), body: { targetId: uuid(2), days: 90 } });
    expect(s.url()).toBe('/runs/71');
  });

  it('asks for a reason before a suspicion is lifted or a point is kept, and keeps a refusal in the dialog', async () => {
    const refused = new ApiFailure('BUSY', 'A run is taking a point.', undefined);
    const s = await open('/estate/1', {
      answers: answers({ workload: workloadDetail(points, { frozen: true }), liftSuspicion: refused, holdPoint: {} }),
    });
    expect(s.text()).toContain('newest point held, expiry stopped');
    await s.click('It is harmless');
    expect(s.button('Lift the suspicion').disabled).toBe(true);
    await s.type('input[name=why]', 'a planned conversion');
    await s.click('Lift the suspicion');
    expect(s.one('[role=dialog] .problem').textContent).toContain('A run is taking a point.');
    await s.press('x');
    expect(s.all('.acts .go')).toEqual([]);
    await s.click('Close');
    await s.click('Keep this point');
    await s.type('input[name=why]', 'the audit asks for it');
    await s.click('Keep it');
    expect(s.api.last('holdPoint')).toMatchObject({ id: uuid(3), body: { reason: 'the audit asks for it' } });
    expect(s.all('[role=dialog]')).toEqual([]);
  });

  it('lets a kept point go, and shows why that was refused', async () => {
    const held = [...points.slice(0, 2), point(3, now - day, { held: true, heldWhy: 'for the audit' })];
    const no = new ApiFailure('FORBIDDEN', 'Not yours to let go.', undefined);
    const s = await open('/estate/1', { answers: answers({ workload: workloadDetail(held), releasePoint: no }) });
    expect(s.one('.pointline').textContent).toContain('kept by hand: for the audit');
    await s.click('Ask to let this point go');
    expect(s.one('.problem').textContent).toContain('Not yours to let go.');
  });

  it('offers the last good versions of what a suspect point damaged', async () => {
    const damage = { pointId: uuid(3), goodPointId: uuid(2), files: 412, bytes: 3e8 };
    const s = await open('/estate/1', { answers: answers({ workload: workloadDetail(points, { damage }) }) });
    expect(s.button('Bring back 412 damaged files').getAttribute('href')).toBe(`/recover/sheet?damaged=${uuid(3)}&from=quay-1`);
  });

  it('offers to restore what is gone, and not to protect it', async () => {
    const s = await open('/estate/1', { answers: answers({ workload: workloadDetail(points, { gone: now - day }) }) });
    const words = s.all('button, a').map((b) => b.textContent.trim());
    expect(words.some((w) => w.startsWith('Restore everything'))).toBe(true);
    expect(words.some((w) => w.startsWith('Protect once'))).toBe(false);
  });

  it('shows an auditor everything and lets him change nothing', async () => {
    const s = await open('/estate/1', { answers: answers(), role: 'auditor' });
    const words = s.all('button').map((b) => b.textContent.trim());
    for (const act of ['Protect once', 'Keep this point', 'Restore']) expect(words.some((w) => w.startsWith(act))).toBe(false);
    expect(s.all('.middle tbody tr')).toHaveLength(4);
  });

  it('says so when the workload is unknown', async () => {
    const s = await open('/estate/1', { answers: { workload: new ApiFailure('NOT_FOUND', 'There is no such workload.', undefined) } });
    expect(s.one('[role=alert]').textContent).toBe('There is no such workload.');
  });
});

describe('an item beside what is there now', () => {
  const side = {
    kind: 'file',
    size: 1000,
    mtimeNs: String(BigInt(now) * 1_000_000n),
    mode: 0o640,
    uid: 7,
    gid: 8,
    attributes: 0,
    linkTarget: null,
  };
  const versions = {
    rows: [
      version(3, now - day, { points: 2, lastMoment: now - hour }),
      version(2, now - 2 * day, { ended: 'replaced', suspect: true }),
      version(1, now - 3 * day, { ended: 'gone', random: true }),
    ],
  };
  const at = (row: unknown, more: Answers = {}) =>
    open('/estate/1?item=old.log', { answers: answers({ compare: { rows: [row], at: now }, versions, ...more }) });

  it('marks what differs, property by property', async () => {
    const s = await at({ name: 'old.log', since: 'changed', then: side, now: { ...side, size: 2000, mode: 0o4755 }, sameContent: false });
    const lines = s.all('lx-item-side .d').map((d) => [d.classList.contains('ch'), [...d.children].map((c) => c.textContent).join('|')]);
    expect(lines).toEqual([
      [false, '|then|now'],
      [false, 'kind|file|same'],
      [true, 'size|1.00 kB|2.00 kB'],
      [false, 'changed|Mon 23 Nov 09:00|same'],
      [true, 'mode|0640|4755'],
      [false, 'owner|7:8|same'],
      [true, 'content|kept|differs'],
    ]);
  });

  it('shows what it was alone where its kind can not be put beside what is there now', async () => {
    const s = await at({}, { workload: workloadDetail(points, { kind: 'machine' }) });
    expect(s.all('lx-item-side .d').map((d) => [...d.children].map((c) => c.textContent).join('|'))).toContain('size|1.00 kB|');
    expect(s.api.of('compare')).toEqual([]);
    expect(s.all('lx-item-side .ver')).toHaveLength(3);
  });

  it('says gone for everything when there is nothing now', async () => {
    const s = await at({
      name: 'old.log',
      since: 'gone',
      then: { ...side, kind: 'link', linkTarget: '../x' },
      now: null,
      sameContent: null,
    });
    const lines = s.all('lx-item-side .d.ch').map((d) => d.textContent);
    expect(lines).toContain('leads to../xgone');
    expect(lines).toHaveLength(6);
  });

  it('lists every version with its verdict; one click sets the moment, one picks it', async () => {
    const s = await at({ name: 'old.log', since: 'same', then: side, now: side, sameContent: true });
    const rows = s.all('lx-item-side .ver').map(words);
    expect(rows[0]).toContain('nothing against it in 2 points, still there');
    expect(rows[1]).toContain('suspect in 1 point');
    expect(rows[2]).toContain('looks random, nothing else against it in 1 point, then gone');
    await s.click(s.all('lx-item-side .ver .plain')[0]!);
    expect(s.url()).toContain(`at=${now - hour}`);
    await s.click(s.all('lx-item-side .ver .act')[1]!);
    expect(picked()).toMatchObject([{ pointId: uuid(2), path: 'old.log', moment: now - 2 * day }]);
    expect(s.url()).toBe('/recover/sheet');
  });

  it('keeps the versions when the source can not be asked', async () => {
    const away = new ApiFailure('MOVER_AWAY', 'The mover of this source does not answer.', undefined);
    const s = await at({}, { compare: away });
    expect(s.one('lx-item-side .f').textContent).toContain('does not answer');
    expect(s.all('lx-item-side .ver')).toHaveLength(3);
  });
});
