import { describe, expect, it } from 'vitest';
import { ApiFailure } from '../data/api';
import { day, now, open, words } from '../../test/stage';

const needs = [
  { right: 'Read disks', neededFor: 'to back up', missing: false },
  { right: 'Write disks', neededFor: 'to restore', missing: true },
];
const tested = {
  ok: true,
  message: 'The account may not: write disks.',
  account: 'keeper',
  passwordEnds: now + 30 * day,
  machines: 34,
  needs,
};
const known = {
  id: 7,
  name: 'Harbour platform',
  endpoint: 'http://platform',
  by: 'password',
  account: 'keeper',
  passwordEnds: null,
  readAt: now,
  trouble: null,
  machines: 34,
  readers: null,
};

describe('the connection to a platform', () => {
  const fill = async (s: Awaited<ReturnType<typeof open>>) => {
    await s.type('input[name=name]', 'Harbour platform');
    await s.type('input[name=endpoint]', 'http://platform/');
    await s.type('input[name=account]', 'keeper');
    await s.type('input[name=password]', 'gulls');
  };
  const body = {
    name: 'Harbour platform',
    endpoint: 'http://platform',
    opener: { by: 'password', account: 'keeper', password: 'gulls' },
    way: 'network',
    family: 'hosts',
  };

  it('is tested with what each right is for, and saved; then the estate shows what nothing protects', async () => {
    const answers = { listPlatforms: { rows: [] }, testPlatform: tested, addPlatform: { id: 7, machines: 34 } };
    const s = await open('/estate/platforms/new', { answers });
    await s.click('Connect');
    expect(s.api.of('addPlatform')).toEqual([]);
    await fill(s);
    await s.click('Test the connection');
    expect(s.api.last('testPlatform')?.body).toEqual({ id: null, body });
    expect(words(s.one('aside'))).toContain('Write disks to restore: missing');
    await s.click('Connect');
    expect(s.api.last('addPlatform')?.body).toEqual(body);
    expect(s.url()).toBe('/estate?by=host&show=none');
  });

  it('says how the data of whole machines is to go', async () => {
    const s = await open('/estate/platforms/new', { answers: { listPlatforms: { rows: [] }, addPlatform: { id: 7, machines: 34 } } });
    await fill(s);
    await s.fill('way of the data', 'straight between movers and storages they see');
    await s.click('Connect');
    expect(s.api.last('addPlatform')?.body).toEqual({ ...body, way: 'straight' });
  });

  it('is that of a cloud where one is asked for: a client and its secret, and no way of the data', async () => {
    const s = await open('/estate/platforms/new?family=cloud', {
      answers: { listPlatforms: { rows: [] }, addPlatform: { id: 8, machines: 0 } },
    });
    expect(s.one('h1').textContent).toBe('Connect a cloud');
    expect(words(s.one('form'))).toContain('Its secret');
    expect(words(s.one('form'))).not.toContain('data of whole machines');
    await fill(s);
    await s.click('Connect');
    expect(s.api.last('addPlatform')?.body).toEqual({ ...body, family: 'cloud' });
  });

  it('keeps what was typed beside a refusal', async () => {
    const refused = new ApiFailure('CONNECTION_FAULTY', 'The platform refused the sign-in. It was not saved.', undefined);
    const s = await open('/estate/platforms/new', { answers: { listPlatforms: { rows: [] }, addPlatform: refused } });
    await fill(s);
    await s.click(s.one('button[type=submit]'));
    expect(s.one('[role=alert]').textContent).toContain('refused the sign-in');
    expect(s.one<HTMLInputElement>('input[name=password]').value).toBe('gulls');
  });

  it('is changed without giving the password again, unless it fails', async () => {
    const s = await open('/estate/platforms/7', { answers: { listPlatforms: { rows: [known] }, changePlatform: {} } });
    await s.type('input[name=name]', 'Harbour machines');
    await s.click(s.one('button[type=submit]'));
    expect(s.api.last('changePlatform')).toMatchObject({ id: 7, body: { name: 'Harbour machines', opener: null } });
  });

  it('asks for the password again where it fails', async () => {
    const broken = { ...known, trouble: 'The password has expired.' };
    const s = await open('/estate/platforms/7', { answers: { listPlatforms: { rows: [broken] } } });
    expect(s.one('[role=alert]').textContent).toContain('expired');
    await s.settle();
    expect(s.one<HTMLInputElement>('input[name=account]').value).toBe('keeper');
  });

  it('is only looked at by who may not change it', async () => {
    const s = await open('/estate/platforms/7', { answers: { listPlatforms: { rows: [known] } }, role: 'auditor' });
    expect(s.all('button').some((b) => /Save|Test/.test(b.textContent))).toBe(false);
    expect(s.one<HTMLInputElement>('input[name=name]').disabled).toBe(true);
  });
});
