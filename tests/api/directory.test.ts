import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { TenantService } from '@lithodex/standins';
import type { BodyInput } from '@lithodex/contract';
import { base, Directory } from '../support/directory';
import { Harness, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let directory: Directory;
let service: TenantService;
const many = 260;

const person = (uid: string, name: string, more = '') =>
  `dn: uid=${uid},${base}\nobjectClass: inetOrgPerson\nuid: ${uid}\ncn: ${name}\nsn: ${name.split(' ').at(-1)}\nmail: ${uid}@kelmar-harbour.example\n${more}\n`;
const group = (name: string, members: readonly string[]) =>
  `dn: cn=${name},${base}\nobjectClass: groupOfNames\ncn: ${name}\n${members.map((m) => `member: ${m},${base}\n`).join('')}\n`;

beforeAll(async () => {
  h = await Harness.start();
  admin = await h.as('administrator');
  const people = Array.from({ length: many }, (_, n) => person(`pilot${n}`, `Pilot Number${n}`));
  directory = await Directory.start(
    `${h.folder}/directory`,
    [
      ...people,
      person('quay', 'Quay Desk', 'employeeType: shared\n'),
      person('odd,name', 'Odd Name').replace('uid=odd,name', 'uid=odd\\2Cname'),
      group('pilots', ['uid=pilot1', 'UID=Pilot2']),
      group('harbour', ['cn=pilots', 'uid=quay']),
    ].join(''),
  );
  service = new TenantService({ folder: `${h.folder}/services`, domain: 'kelmar-harbour.example', secret: 'lamp' });
  await service.start();
});
afterAll(async () => {
  await service.stop();
  await directory.stop();
  await h.stop();
});

const body = (account = `cn=reader,${base}`, people = 'reads all'): BodyInput<'addSystem'> => ({
  name: 'Office',
  location: '',
  address: {
    kind: 'tenant',
    people: { by: 'ldap', url: `ldap://127.0.0.1:${directory.port}`, base, account },
    sites: { url: `${service.url}/sites/`, account: 'keeper' },
  },
  secret: JSON.stringify({ people, sites: 'lamp' }),
});

describe('people of a directory', () => {
  it('are all found, page by page, with the groups they are in through others', async () => {
    await admin.call('addSystem', { body: body() });
    const { workloads } = await admin.call('estate', { query: { limit: 500 } });
    const found = workloads.filter((w) => w.kind === 'tenant');
    expect(found.length).toBe(many + 2);
    const tags = (name: string) => found.find((w) => w.name === name)!.tags;
    expect(tags('Pilot Number1')).toEqual(['harbour', 'people', 'pilots']);
    expect(tags('Pilot Number2')).toEqual(['harbour', 'people', 'pilots']);
    expect(tags('Pilot Number3')).toEqual(['people']);
    expect(tags('Quay Desk')).toEqual(['harbour', 'shared mailboxes']);
  });

  it('are not read with a password that is wrong, and the cause is said', async () => {
    const test = await admin.call('testSystem', { body: { body: body(undefined, 'wrong') } });
    expect(test).toMatchObject({ ok: false, found: 0 });
    expect(test.remarks[0]).toContain('the directory refused the account');
  });
});
