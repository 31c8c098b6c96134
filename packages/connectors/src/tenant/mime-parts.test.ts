import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { messageStem, titledStem } from './item-words';
import { uidSet } from './mail-folder';
import { FreeNames } from './member-writing';
import { readMessage } from './mime-parts';

const message = (lines: readonly string[]) => Buffer.from(lines.join('\r\n'));
const base64 = (bytes: number) => Buffer.alloc(bytes, 7).toString('base64').replace(/.{76}/g, '$&\r\n');

describe('a message', () => {
  it('says who sent it, what it is about and what is attached, also where that is encoded', () => {
    const { facts, cuts } = readMessage(
      message([
        'MESSAGE-id:  <a@b> ',
        'From: =?utf-8?Q?J=C3=B8rn?= <jorn@b.example>',
        'To: Ragna',
        ' <ragna@b.example>',
        'Cc: Ivo <ivo@b.example>',
        'Subject: =?utf-8?B?UHLDuHZl?=',
        'Content-Type: multipart/mixed; boundary="x y"',
        '',
        '--x y',
        'Content-Type: text/plain',
        '',
        'text',
        '--x y',
        'Content-Type: application/pdf',
        "Content-Disposition: attachment; filename*=utf-8''pl%C3%A5n.pdf",
        'Content-Transfer-Encoding: base64',
        '',
        base64(30_000),
        '--x y--',
        '',
      ]),
    );
    expect(facts).toMatchObject({
      id: '<a@b>',
      from: 'Jørn <jorn@b.example>',
      subject: 'Prøve',
      to: 'Ragna <ragna@b.example>, Ivo <ivo@b.example>',
    });
    expect(facts.files).toEqual([{ name: 'plån.pdf', size: expect.any(Number) }]);
    expect(Math.abs(facts.files[0]!.size - 30_000)).toBeLessThan(1000);
    expect(cuts).toHaveLength(2);
  });

  it('is cut so that the same attachment is the same piece in two messages', () => {
    const file = base64(40_000);
    const pieces = ['a', 'a much longer subject than the other one'].map((subject) => {
      const bytes = message([
        `Subject: ${subject}`,
        'Content-Type: multipart/mixed; boundary=b',
        '',
        '--b',
        'Content-Type: image/png; name=i.png',
        '',
        file,
        '--b--',
        '',
      ]);
      const [from, to] = readMessage(bytes).cuts;
      return bytes.subarray(from, to).toString();
    });
    expect(pieces[0]).toBe(pieces[1]);
  });

  it('of any bytes is read without fault, and its cuts lie inside', () => {
    const part = fc.constantFrom(
      '--b\r\n',
      '--b--',
      '\r\n\r\n',
      'Content-Type: multipart/mixed; boundary=b\r\n',
      'Content-Type: multipart/x; boundary=""\r\n',
      'Subject: =?x?',
      ': \r\n',
      'name*0*=\r\n',
    );
    const bytes = fc.array(fc.oneof(part, fc.string()), { maxLength: 40 }).map((all) => Buffer.from(all.join('')));
    fc.assert(
      fc.property(bytes, (data) => {
        const { cuts, facts } = readMessage(data);
        expect(cuts.every((at) => at > 0 && at < data.length)).toBe(true);

        expect(facts.subject + facts.from).not.toMatch(/[\0-\x1f]/);
      }),
    );
  });

  it('nested without end, or with many thousand headers, takes no time', () => {
    const deep = Array.from({ length: 3000 }, (_, n) => `Content-Type: multipart/mixed; boundary=b${n}\r\n\r\n--b${n}\r\n`).join('');
    const many = Array.from({ length: 100_000 }, (_, n) => `X-${n}: y\r\n`).join('');
    expect(readMessage(Buffer.from(deep)).facts.files).toEqual([]);
    expect(readMessage(Buffer.from(`${many}Subject: late\r\n\r\nx`)).facts.subject).toBe('');
  });
});

describe('names of items', () => {
  it('hold what people look for, and nothing that leads elsewhere', () => {
    fc.assert(
      fc.property(
        fc.string({ unit: 'grapheme' }),
        fc.string({ unit: 'grapheme' }),
        fc.integer({ min: 0, max: 4e12 }),
        (subject, from, at) => {
          const name = messageStem({ at, subject, from, sum: 'abcdef0123456789' });
          expect(name).toContain('[abcdef0123]');

          expect(name).not.toMatch(/[/\0-\x1f]/);
          expect(name.length).toBeLessThan(600);
        },
      ),
    );
    expect(messageStem({ at: Date.UTC(2026, 10, 20, 9, 14), subject: 'Soundings', from: '"Ivo Lind" <ivo@b>', sum: '0123456789ab' })).toBe(
      Buffer.from('2026-11-20 0914 Soundings · Ivo Lind [0123456789]').toString('latin1'),
    );
    expect(titledStem('', 'x')).toBe('no title [x]');
  });

  it('are given once each', () => {
    const names = new FreeNames();
    expect([names.free('a', '.eml'), names.free('a', '.eml'), names.free('a', '.eml')]).toEqual(['a.eml', 'a.2.eml', 'a.3.eml']);
  });
});

describe('a set of numbers of messages', () => {
  it('names each of them and no other', () => {
    fc.assert(
      fc.property(fc.uniqueArray(fc.integer({ min: 1, max: 300 }), { minLength: 1 }), (list) => {
        const sorted = [...list].sort((a, b) => a - b);
        const named = uidSet(sorted)
          .split(',')
          .flatMap((part) => {
            const [a, b = a] = part.split(':').map(Number) as [number, number?];
            return Array.from({ length: b - a + 1 }, (_, i) => a + i);
          });
        expect(named).toEqual(sorted);
      }),
    );
  });
});
