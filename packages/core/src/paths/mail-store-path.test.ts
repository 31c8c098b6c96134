import { describe, expect, it } from 'vitest';
import { mailPathOf, mailStoreOn } from './mail-store-path';

describe('a path into a mail store', () => {
  it.each([
    ['disks/0.raw/p1/home/anna/Maildir/~mail/Mail/INBOX/a.eml', { store: 'disks/0.raw/p1/home/anna/Maildir', rest: 'Mail/INBOX/a.eml' }],
    ['disks/0.raw/p1/mail/~mail', { store: 'disks/0.raw/p1/mail', rest: '' }],
    ['disks/0.raw/p1/home/~mailbox/a', undefined],
  ])('%s', (path, found) => {
    expect(mailStoreOn(path)).toEqual(found);
  });

  it('is a path of mail below its folder of mailboxes, as in a point of a mailbox', () => {
    expect(mailPathOf('d/~mail/Mail/INBOX', false)).toBe('Mail/INBOX');
    expect(mailPathOf('Mail/INBOX', true)).toBe('Mail/INBOX');
    for (const path of ['Mail/INBOX', 'd/~mail', 'd/~mail/Mailing']) expect(mailPathOf(path, false)).toBeUndefined();
    expect(mailPathOf('Drive/Mail', true)).toBeUndefined();
  });
});
