import { describe, expect, it, vi } from 'vitest';
import { target, uuid } from '../../test/samples';
import { day, hour, now, open, page, words, type Answers } from '../../test/stage';
import { ApiFailure } from '../data/api';

const stage = (answers: Answers = {}, role: 'administrator' | 'operator' = 'administrator') =>
  open('/storage', {
    role,
    answers: {
      listTargets: page([target(1), target(2, { used: null, free: null, measuredAt: null, trouble: 'The folder is gone.' })]),
      copiesMatrix: { targets: [], rows: [] },
      ...answers,
    },
  });

describe('storage', () => {
  it('shows how full each target is and how much smaller its points are', async () => {
    const s = await stage();
    const [first, second] = s.all('section.t').map(words);
    expect(first).toContain('Stored 200 GB measured 1 h ago');
    expect(first).toContain('Reduction 4.5 ×');
    expect(s.one('.bar').getAttribute('aria-label')).toBe('25.0 % of the room it could have');
    expect(second).toContain('The folder is gone.');
    expect(second).toContain('Stored – not measured yet');
  });

  it('says when a target is full, what it costs, and where the points of each workload stand', async () => {
    const prices = { currency: 'EUR', perGbMonth: 0.01, perGbRead: 0, perThousandRequests: 0, leastDays: 0 };
    const outlook = { perDay: 4e9, expected: now + 40 * day, earliest: null, latest: null, estimated: true };
    const cell = { points: 12, newest: now - hour, oldest: now - 20 * day, lockedUntil: null };
    const s = await stage({
      listTargets: page([target(1, { outlook, prices }), target(2)]),
      copiesMatrix: {
        targets: [1, 2].map((n) => ({ id: uuid(n), name: `disk-${n}` })),
        rows: [
          { workload: { id: 4, name: 'quay-4' }, cells: [cell, { ...cell, points: 0, newest: null, oldest: null }] },
          { workload: { id: 5, name: 'quay-5' }, cells: [{ ...cell, lockedUntil: now + 9 * day }, cell] },
        ],
      },
    });
    expect(words(s.all('section.t')[0]!)).toContain('Full Jan 2027 +4.00 GB a day, estimated Costs EUR 2.00 a month');
    const rows = s.all('.matrix tbody tr').map(words);
    expect(rows[0]).toBe('quay-4 12 newest 1 h ago, back to Tue 3 Nov 09:00 –');
    expect(rows[1]).toContain('locked until Wed 2 Dec 09:00');
  });

  it('tests a folder before it is added, and shows a refusal in place', async () => {
    const s = await stage({
      testTarget: { ok: true, holdsStore: false, locks: true, free: 6e11, message: 'Can be written.', needs: [] },
      addTarget: new ApiFailure('TARGET_INSIDE_SOURCE', 'The folder lies in a source.', undefined),
    });
    await s.click('Add a target');
    expect(s.one<HTMLButtonElement>('button[type=submit]').disabled).toBe(true);
    await s.type('input[name=name]', 'north-disk');
    await s.type('input[name=folder]', ' /mnt/north ');
    await s.click('Test it');
    expect(s.api.last('testTarget')?.body).toMatchObject({ name: 'north-disk', place: { kind: 'folder', folder: '/mnt/north' } });
    expect(words(s.one('form'))).toContain('Can be written. 600 GB free.');
    await s.click(s.one('button[type=submit]'));
    expect(s.one('[role=dialog] .problem').textContent).toContain('lies in a source');
    s.api.answers.addTarget = { id: uuid(3) };
    await s.click(s.one('button[type=submit]'));
    expect(s.all('[role=dialog]')).toEqual([]);
  });

  it('tests a bucket right by right and says what each is needed for', async () => {
    const s = await stage({
      testTarget: {
        ok: false,
        locks: false,
        holdsStore: false,
        free: null,
        message: 'This is missing: delete objects.',
        needs: [
          { right: 'Read objects', neededFor: 'to restore', problem: '' },
          { right: 'Delete objects', neededFor: 'to give back room', problem: 'AccessDenied' },
        ],
      },
      listTargets: page([
        target(1, {
          place: { kind: 'bucket', endpoint: 'https://o.example', region: 'r', bucket: 'b-1', prefix: 'x/', locks: false },
          free: null,
        }),
      ]),
    });
    expect(s.text()).toContain('https://o.example/b-1/x/');
    expect(s.text()).toContain('no end known');
    await s.click('Add a target');
    await s.choose('select[name=kind]', 'bucket');
    await s.type('input[name=name]', 'north');
    await s.type('input[name=endpoint]', 'https://o.example');
    await s.type('input[name=bucket]', 'harbour');
    await s.type('input[name=prefix]', '/deep/er/');
    await s.type('input[name=accessKey]', 'key');
    expect(s.button('Test it').disabled).toBe(true);
    await s.type('input[name=secretKey]', 'secret');
    await s.click('Test it');
    expect(s.api.last('testTarget')?.body).toEqual({
      name: 'north',
      location: '',
      place: {
        kind: 'bucket',
        endpoint: 'https://o.example',
        region: 'default',
        bucket: 'harbour',
        prefix: 'deep/er/',
        accessKey: 'key',
        secretKey: 'secret',
        locks: false,
      },
    });
    expect(
      s
        .all('.need')
        .slice(1)
        .map((n) => words(n).replace(/\s/g, '')),
    ).toEqual(['Readobjects,torestore', 'Deleteobjects,togivebackroomAccessDenied']);
    expect(words(s.one('form'))).toContain('made without object lock, so nothing can be locked there');
  });

  it('takes over a store that is there, with its envelope', async () => {
    const s = await stage({
      testTarget: { ok: false, holdsStore: true, locks: true, free: 1e9, message: 'The folder already holds a store.', needs: [] },
      takeOverTarget: new ApiFailure('MOVER_FAILED', 'The key does not open this store.', undefined),
      followTarget: new ApiFailure('MOVER_FAILED', 'No mover is there.', undefined),
    });
    await s.click('Add a target');
    await s.type('input[name=name]', 'heirloom');
    await s.type('input[name=folder]', '/mnt/old');
    await s.click('Test it');
    expect(s.text()).toContain('Only one installation may write to a store');
    const file = s.one<HTMLInputElement>('input[type=file]');
    Object.defineProperty(file, 'files', { value: [{ text: () => Promise.resolve('{"slot":1}') }] });
    file.dispatchEvent(new Event('change'));
    await s.settle();
    await s.type('input[name=passphrase]', 'secret of the quay');
    await s.click('Take it over');
    expect(s.api.last('takeOverTarget')?.body).toMatchObject({
      name: 'heirloom',
      envelope: '{"slot":1}',
      passphrase: 'secret of the quay',
    });
    expect(s.one('[role=dialog] .problem').textContent).toContain('does not open');
    await s.click('Follow it');
    expect(s.api.last('followTarget')?.body).toMatchObject({ name: 'heirloom', envelope: '{"slot":1}', every: 15 });
    expect(s.one('[role=dialog] .problem').textContent).toContain('No mover is there');
  });

  it('hands over the key envelope for a passphrase that is long enough', async () => {
    const saved: { name: string; blob: Blob }[] = [];
    const blobs: Blob[] = [];
    vi.stubGlobal('URL', Object.assign(URL, { createObjectURL: (b: Blob) => (blobs.push(b), 'blob:x'), revokeObjectURL: () => undefined }));
    vi.spyOn(HTMLAnchorElement.prototype, 'click').mockImplementation(function (this: HTMLAnchorElement) {
      saved.push({ name: this.download, blob: blobs.at(-1)! });
    });
    const s = await stage({ envelope: { fileName: 'disk-1.envelope.json', content: '{"wrapped":1}' } });
    await s.click('Key envelope');
    await s.type('input[type=password]', 'too short');
    expect(s.button('Make the envelope').disabled).toBe(true);
    await s.type('input[type=password]', 'twelve and more');
    await s.click('Make the envelope');
    expect(s.all('.printed pre').map(words)).toEqual(['{"wrapped":1}']);
    await s.click('Download the file');
    expect(s.api.last('envelope')).toMatchObject({ id: uuid(1), body: { passphrase: 'twelve and more' } });
    expect(saved[0]?.name).toBe('disk-1.envelope.json');
    expect(await saved[0]?.blob.text()).toBe('{"wrapped":1}');
    const print = vi.spyOn(window, 'print').mockImplementation(() => undefined);
    await s.click('Print this page');
    expect(print).toHaveBeenCalledOnce();
    vi.restoreAllMocks();
  });

  it('prunes after saying what that does, or only tells how much it would free', async () => {
    const s = await stage({ pruneTarget: new ApiFailure('NOT_NOW', 'This target is being pruned already.', undefined) });
    await s.click('Prune');
    expect(words(s.one('[role=dialog]'))).toContain('Nothing that a point needs is touched');
    await s.click('Prune now');
    expect(s.api.last('pruneTarget')).toMatchObject({ id: uuid(1), body: { trial: false } });
    expect(s.one('[role=dialog] .problem').textContent).toContain('being pruned already');
    s.api.answers.pruneTarget = { runId: 33 };
    await s.click('Only tell how much it is');
    expect(s.api.last('pruneTarget')?.body).toEqual({ trial: true });
    expect(s.url()).toBe('/runs/33');
  });

  it('says what a target is when there is none, and hides the levers from those who may not', async () => {
    const s = await stage({ listTargets: page([]) }, 'operator');
    expect(s.text()).toContain('There is no target yet.');
    expect(s.all('button')).toEqual([]);
  });

  it('adds a set of cartridges once everything is said', async () => {
    const place = { kind: 'cartridges' as const, endpoint: 'http://library.example', barcodes: 'KH', folder: '/var/set' };
    const s = await open('/storage', {
      answers: { listTargets: page([target(1, { place })]), addTarget: { id: uuid(9) }, copiesMatrix: { targets: [], rows: [] } },
    });
    expect(s.text()).toContain('KH… in http://library.example');
    await s.click('Add a target');
    await s.choose('select[name=kind]', 'cartridges');
    await s.type('input[name=name]', 'vault');
    await s.type('input[name=library]', ' http://library.example ');
    await s.type('input[name=barcodes]', 'KH');
    await s.type('input[name=token]', 'let me in');
    expect(s.button('Add').disabled).toBe(true);
    await s.type('input[name=setFolder]', '/var/set');
    await s.click('Add');
    expect(s.api.last('addTarget')?.body).toEqual({ name: 'vault', location: '', place: { ...place, token: 'let me in' } });
  });
});
