import { TenantAddress } from '@lithodex/kinds';
import { describe, expect, it } from 'vitest';
import { cleanPage } from './message-frame';
import { addressOf, emptyFields, fieldsOf, lacks, secretsOf } from './tenant-form';

const whole: TenantAddress = TenantAddress.parse({
  kind: 'tenant',
  people: { by: 'ldap', url: 'ldaps://people.example', base: 'dc=example', account: 'cn=reader' },
  mail: { host: 'mail.example', port: 143, encryption: 'starttls', account: 'keeper', separator: '*' },
  groupware: { url: 'https://calendar.example/{login}/', account: 'keeper' },
  drives: { url: 'https://drive.example/dav/{login}/', account: 'keeper' },
  sites: { url: 'https://sites.example/', account: 'keeper' },
  chat: { url: 'https://chat.example', domain: 'example' },
  authority: '-----BEGIN CERTIFICATE-----',
});

describe('the form of an office tenant', () => {
  it('says what it was filled with', () => {
    expect(addressOf(fieldsOf(whole), whole.authority ?? '')).toEqual(whole);
    const part = TenantAddress.parse({
      kind: 'tenant',
      people: { by: 'list', logins: ['a', 'b'] },
      sites: { url: 'https://s.example/', account: 'k' },
    });
    expect(addressOf(fieldsOf(part), '')).toEqual(part);
  });

  it('gives only what was said anew of what opens the services', () => {
    const fields = fieldsOf(whole);
    expect(secretsOf(fields)).toBeNull();
    fields.mail.secret = 'm';
    fields.chat.secret = 'c';
    fields.chat.on = false;
    expect(JSON.parse(secretsOf(fields)!)).toEqual({ mail: 'm' });
  });

  it('says what it lacks', () => {
    const fields = emptyFields();
    expect(lacks(fields)).toBe('Say where people are listed.');
    fields.people.url = 'https://people.example';
    expect(lacks(fields)).toBe('Say where mail is, and by which account.');
    fields.mail.on = false;
    expect(lacks(fields)).toBe('Choose what is to be protected.');
    expect(lacks(fieldsOf(whole))).toBe('');
  });
});

describe('the page of a message', () => {
  it('keeps what is read and loses what runs, fetches or sends', async () => {
    const page = await cleanPage(
      `<p style="color:red">kept</p><img src="data:image/png;base64,AAAA"><script>x()</script><img src="http://a.example/t"><p style="background:url(http://a.example/t)">x</p><p style="background:u\\72l(http://a.example)">y</p><style>@import 'x'</style><a href="https://a.example">link</a><form action="/x"><input></form><svg><a xlink:href="javascript:x()">z</a></svg>`,
    );
    const body = page.slice(page.indexOf('<body>'));
    expect(body).toContain('<p style="color:red">kept</p>');
    expect(body).toContain('data:image/png');
    expect(body).toContain('link');
    expect(body).not.toMatch(/a\.example|script|<form|<input|@import|href/);
    expect(page).toContain("default-src 'none'");
  });
});
