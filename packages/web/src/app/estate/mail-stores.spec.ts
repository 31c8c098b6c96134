import { describe, expect, it } from 'vitest';
import { uuid } from '../../test/samples';
import { show } from '../../test/stage';
import { ApiFailure } from '../data/api';
import { MailStores } from './mail-stores';

const disk = 'disks/system.raw/p2';
const store = `${disk}/home/ragna/Maildir/~mail`;
const none = { listSystems: { rows: [] } };

describe('mail stores inside a disk', () => {
  it('are looked for when that is wanted, and lead to their mailboxes', async () => {
    const answers = { ...none, mailStores: { rows: [{ path: store, layout: 'Maildir' }], whole: false } };
    const s = await show(MailStores, { pointId: uuid(7), path: disk }, { answers });
    expect(s.api.of('mailStores')).toEqual([]);
    await s.click('Look for mail stores');
    expect(s.api.last('mailStores')).toMatchObject({ id: uuid(7), query: { path: disk } });
    expect(s.text()).toMatch(/home\/ragna\/Maildir ?\(Maildir\)/);
    expect(s.text()).toContain('There may be more');
    expect(s.one<HTMLAnchorElement>('a').href).toContain(encodeURIComponent('~mail').replace('%7E', '~'));
    await s.set('pointId', uuid(8));
    expect(s.text()).not.toContain('(Maildir)');
  });

  it('say that there are none, or why that is not known', async () => {
    const s = await show(MailStores, { pointId: uuid(7), path: disk }, { answers: { ...none, mailStores: { rows: [], whole: true } } });
    await s.click('Look for mail stores');
    expect(s.text()).toContain('None was found.');
    s.api.answers.mailStores = new ApiFailure('MOVER_ABSENT', 'No mover answers.', undefined);
    await s.click('Look for mail stores');
    expect(s.one('[role=alert]').textContent).toContain('No mover answers.');
  });
});
