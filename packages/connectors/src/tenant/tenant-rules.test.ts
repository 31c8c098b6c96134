import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { appointmentFacts, contactFacts } from './calendar-facts';
import { driveName, hrefBelow } from './capture-drive';
import { readMultistatus } from './dav-client';
import { groupsOf } from './people';
import { waitOf } from '../retry-after';
import { sameMeaning, underId, valueOf } from './same-meaning';

const event = (lines: readonly string[]) =>
  ['BEGIN:VCALENDAR', 'VERSION:2.0', 'BEGIN:VEVENT', ...lines, 'END:VEVENT', 'END:VCALENDAR', ''].join('\r\n');
const one = ['UID:a', 'DTSTART:20261120T080000Z', 'SUMMARY:Crane', 'LOCATION:Quay 3', 'ATTENDEE;CN=Ivo Lind:mailto:ivo@b.example'];

describe('groups', () => {
  it('hold whom their groups hold, also where they hold each other', () => {
    const groups = [
      { id: 'a', name: 'A', members: ['b', 'x'] },
      { id: 'b', name: 'B', members: ['a', 'y'] },
      { id: 'c', name: 'C', members: ['c'] },
    ];
    const found = groupsOf(groups);
    expect(found.get('x')).toEqual(['A', 'B']);
    expect(found.get('y')).toEqual(['A', 'B']);
    expect(found.get('c')).toEqual(['C']);
  });
});

describe('an appointment', () => {
  it('means the same however a server writes it, and something else when it is changed', () => {
    const again = event(['DTSTAMP:20261101T000000Z', 'SEQUENCE:3', ...[...one].reverse()]);
    expect(sameMeaning(event(one), again)).toBe(true);
    for (let n = 1; n < one.length; n++) expect(sameMeaning(event(one), event(one.filter((_, i) => i !== n)))).toBe(false);
    expect(sameMeaning('no calendar', 'no calendar at all')).toBe(false);
  });

  it('gets another id and stays what it is', () => {
    const other = underId(event(one), 'b');
    expect(valueOf(other, 'uid')).toBe('b');
    expect(sameMeaning(other.replace('UID:b', 'UID:a'), event(one))).toBe(true);
  });

  it('tells its title, place and people, and a contact its addresses', () => {
    expect(appointmentFacts(event(one))).toMatchObject({
      id: 'a',
      title: 'Crane',
      rest: { place: 'Quay 3', people: 'Ivo Lind', start: '2026-11-20T08:00:00Z' },
    });
    expect(appointmentFacts('BEGIN:VCALENDAR')).toBeUndefined();
    const card = ['BEGIN:VCARD', 'VERSION:3.0', 'UID:c', 'FN:Pilot', 'EMAIL:p@b.example', 'TEL:123', 'END:VCARD', ''].join('\r\n');
    expect(contactFacts(card)).toEqual({ id: 'c', title: 'Pilot', rest: { addresses: 'p@b.example, 123' } });
  });
});

describe('a list of a WebDAV server', () => {
  it('is read with its entities, and refused when it is something else', () => {
    const text =
      '<D:multistatus xmlns:D="DAV:"><D:response><D:href>/a%20b/</D:href><D:propstat><D:prop><D:resourcetype><D:collection/></D:resourcetype><D:getetag>W/&#34;x&#34;</D:getetag></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response><D:response><D:href>/c</D:href><D:status>HTTP/1.1 404 Not Found</D:status></D:response></D:multistatus>';
    expect(readMultistatus(text).items).toMatchObject([
      { href: '/a%20b/', folder: true, etag: '"x"' },
      { href: '/c', status: 404 },
    ]);
    for (const wrong of ['', '<html></html>', '{', '<D:multistatus']) expect(() => readMultistatus(wrong)).toThrow();
  });
});

describe('a file of a drive', () => {
  it('has a name that leads nowhere and is found again under it', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'grapheme', minLength: 1 }), (name) => {
        const own = driveName(name);
        expect(own).not.toMatch(/[/\0]/);
        expect(['.', '..']).not.toContain(own);
        expect(decodeURIComponent(hrefBelow('', own))).toBe(name.toWellFormed());
      }),
    );
  });
});

describe('an answer that asks for patience', () => {
  it('says how long, by seconds or by a date, and never for ever', () => {
    expect(waitOf(200, {}, 1)).toBeUndefined();
    expect(waitOf(429, { 'retry-after': '2' }, 1)).toBe(2000);
    expect(waitOf(503, { 'retry-after': new Date(10_000).toUTCString() }, 1, 4000)).toBe(6000);
    expect(waitOf(429, { 'retry-after': '99999' }, 1)).toBe(120_000);
    expect(waitOf(429, { 'retry-after': 'soon' }, 1)).toBe(1000);
    expect(waitOf(503, {}, 3)).toBeUndefined();
  });
});
