import { describe, expect, it } from 'vitest';
import { mover } from '../../test/samples';
import { now, open, words } from '../../test/stage';

const tested = {
  ok: true,
  message: 'MariaDB 10.11 with 2 databases.',
  needs: [
    { right: 'SELECT', neededFor: 'to read tables', missing: false },
    { right: 'DROP', neededFor: 'to replace tables', missing: true },
  ],
  remarks: ['It keeps its log for 6 h only.'],
  credentialEnds: null,
  found: 2,
};
const address = {
  kind: 'database',
  family: 'mariadb',
  host: 'berths-a',
  port: 3306,
  account: 'keeper',
  encrypted: false,
  authority: null,
  replicas: null,
};
const known = {
  id: 7,
  name: 'berths-a',
  location: 'Server room',
  address,
  readBy: null,
  credentialEnds: null,
  readAt: now,
  trouble: null,
  workloads: [{ id: 3, name: 'berths-a' }],
};

describe('the connection to a database server', () => {
  it('is tested with what each right is for, and saved; then its points are shown', async () => {
    const answers = { listSystems: { rows: [] }, testSystem: tested, addSystem: { id: 7, workloads: [3] } };
    const s = await open('/estate/systems/new', { answers });
    await s.click('Connect');
    expect(s.api.of('addSystem')).toEqual([]);
    await s.type('input[name=name]', 'berths-a');
    await s.type('input[name=host]', 'berths-a');
    await s.type('input[name=account]', 'keeper');
    await s.type('input[name=password]', 'gulls');
    await s.click('Test the connection');
    const body = { name: 'berths-a', location: '', address, readBy: null, secret: 'gulls' };
    expect(s.api.last('testSystem')?.body).toEqual({ id: null, body });
    expect(words(s.one('aside'))).toContain('DROP to replace tables: missing');
    expect(words(s.one('aside'))).toContain('It keeps its log for 6 h only.');
    await s.click('Connect');
    expect(s.api.last('addSystem')?.body).toEqual(body);
    expect(s.url()).toBe('/estate/3');
  });

  it('fills in what is known of a server that was found inside a machine', async () => {
    const found = { workload: { id: 24, name: 'pilot-db' }, family: 'postgresql', by: 'postgres', location: 'Harbour office' };
    const s = await open('/estate/systems/new', { answers: { listSystems: { rows: [] }, serversInMachines: { rows: [found] } } });
    expect(words(s.one('lx-found-servers li'))).toContain('pilot-db PostgreSQL');
    await s.click('This one');
    await s.settle();
    const value = (name: string) => s.one<HTMLInputElement>(`input[name=${name}]`).value;
    expect(['name', 'host', 'location', 'port'].map(value)).toEqual(['pilot-db', 'pilot-db', 'Harbour office', '5432']);
  });

  it('goes on with the password of before while nothing else is said', async () => {
    const s = await open('/estate/systems/7', { answers: { listSystems: { rows: [known] }, testSystem: tested, changeSystem: {} } });
    await s.type('input[name=location]', 'Pilot house');
    await s.click('Save the connection');
    expect(s.api.last('changeSystem')?.body).toEqual({ name: 'berths-a', location: 'Pilot house', address, readBy: null, secret: null });
  });

  it('may name replicas that are read in its place, and takes only what names one', async () => {
    const s = await open('/estate/systems/7', { answers: { listSystems: { rows: [known] }, testSystem: tested, changeSystem: {} } });
    await s.type('input[name=replicas]', 'berths-b');
    expect(words(s.one('lx-replicas'))).toContain('Say each as host:port.');
    await s.click('Save the connection');
    expect(s.api.of('changeSystem')).toEqual([]);
    await s.type('input[name=replicas]', 'berths-b:3306, berths-c:3307, ');
    expect(s.one<HTMLInputElement>('input[name=replicas]').value).toBe('berths-b:3306, berths-c:3307, ');
    await s.click('Save the connection');
    const members = [
      { host: 'berths-b', port: 3306 },
      { host: 'berths-c', port: 3307 },
    ];
    expect(s.api.last('changeSystem')?.body).toMatchObject({ address: { replicas: { members, behindSeconds: 60 } } });
  });

  it('can be left to a mover that stands beside it and keeps nothing', async () => {
    const listed = { rows: [mover('tide-gauge', { present: false, duties: ['capture'] }), mover('sweeper', { duties: ['prune'] })] };
    const answers = { listSystems: { rows: [known] }, listMovers: listed, testSystem: tested, changeSystem: {} };
    const s = await open('/estate/systems/7', { answers });
    const choices = s.all('lx-read-by .choices button').map(words);
    expect(choices).toEqual([
      'whichever mover comes first each of them has to reach it',
      'tide-gauge has no keys: it gives what it reads to a mover that keeps and does not answer now',
    ]);
    await s.fill('mover', 'tide-gauge');
    await s.click('Save the connection');
    expect(s.api.last('changeSystem')?.body).toMatchObject({ readBy: 'tide-gauge' });
  });
});
