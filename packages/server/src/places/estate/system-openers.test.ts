import { TenantAddress } from '@lithodex/kinds';
import { describe, expect, it } from 'vitest';
import { openerOf } from './system-openers';

const address = TenantAddress.parse({
  kind: 'tenant',
  people: { by: 'scim', url: 'https://people.example/scim' },
  mail: { host: 'mail.example', port: 993, encryption: 'tls', account: 'keeper', separator: '*' },
  drives: { url: 'https://drive.example/{login}/', account: 'keeper' },
});
const secrets = { people: 'p', mail: 'm', drives: 'd' };
const kept = { address, secret: () => JSON.stringify(secrets) };

describe('what opens the services of a tenant', () => {
  it('is as given, and as kept for what stays where it was', () => {
    expect(JSON.parse(openerOf(undefined, address, JSON.stringify(secrets)))).toEqual(secrets);
    expect(JSON.parse(openerOf(kept, address, null))).toEqual(secrets);
    expect(JSON.parse(openerOf(kept, address, JSON.stringify({ mail: 'new' })))).toEqual({ ...secrets, mail: 'new' });
  });

  it('is sent to no other place, and to none that trusts somebody else', () => {
    const moved: TenantAddress[] = [
      { ...address, mail: { ...address.mail!, host: 'elsewhere.example' } },
      { ...address, mail: { ...address.mail!, encryption: 'none' } },
      { ...address, drives: { ...address.drives!, url: 'https://elsewhere.example/{login}/' } },
      { ...address, people: { by: 'scim', url: 'https://elsewhere.example/scim', account: null } },
      { ...address, authority: '-----BEGIN CERTIFICATE-----' },
    ];
    for (const other of moved) expect(() => openerOf(kept, other, null)).toThrow(/not sent elsewhere/);
    // what is said anew may go anywhere
    expect(JSON.parse(openerOf(kept, moved[0]!, JSON.stringify({ mail: 'new' })))).toMatchObject({ mail: 'new', drives: 'd' });
  });

  it('is asked for where it lacks, and forgotten with its service', () => {
    expect(() => openerOf(undefined, address, JSON.stringify({ people: 'p' }))).toThrow(/mail/);
    expect(() => openerOf(undefined, address, 'not JSON')).toThrow();
    expect(JSON.parse(openerOf(kept, { ...address, mail: null }, null))).toEqual({ people: 'p', drives: 'd' });
    expect(JSON.parse(openerOf(kept, { ...address, people: { by: 'list', logins: ['a'] } }, null))).toEqual({ mail: 'm', drives: 'd' });
  });
});
