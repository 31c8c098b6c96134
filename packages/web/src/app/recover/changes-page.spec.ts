import { describe, expect, it } from 'vitest';
import { uuid } from '../../test/samples';
import { day, now, open, words } from '../../test/stage';

const item = (label: string, change: string, more: object = {}) => ({
  path: change === 'added' ? '' : `Calendars/Work/${label}.ics`,
  type: 'appointment',
  change,
  label,
  about: '',
  folder: 'Work',
  at: null,
  size: 300,
  differs: [],
  ...more,
});
const answer = {
  workload: { id: 4, name: 'Ragna Holt' },
  moment: now - day,
  looked: 500,
  counts: { gone: 1, changed: 1, added: 1 },
  items: [
    item('Crane inspection', 'changed', {
      differs: [
        { what: 'Begins', was: '2026-11-20T09:00:00Z', now: '2026-11-20T11:30:00Z' },
        { what: 'Place', was: 'Quay 4', now: '' },
      ],
    }),
    item('Pilot meeting', 'gone'),
    item('Lunch', 'added'),
  ],
  more: 7,
  troubles: [{ top: 'Drive', trouble: 'it does not answer' }],
};
const address = `/recover/changes?point=${uuid(7)}&path=Calendars`;

describe('then and now', () => {
  it('says field by field what differs, and counts what is the same', async () => {
    const s = await open(address, { answers: { itemChanges: answer } });
    expect(s.api.last('itemChanges')).toMatchObject({ id: uuid(7), body: { path: 'Calendars', about: '', own: null } });
    const text = words(s.one('section[aria-label="Then and now"]'));
    expect(text).toContain('1 otherwise, 1 gone, 1 new, 498 the same');
    expect(text).toContain('Place Quay 4 → nothing');
    expect(text).toContain('Drive: it does not answer');
    expect(text).toContain('7 items more that differ');
    expect(s.all('.item input[type=checkbox]')).toHaveLength(2);
    await s.fill('what', 'what is gone');
    expect(s.url()).toContain('show=gone');
    expect(s.all('.item')).toHaveLength(1);
  });

  it('brings what is ticked to the sheet', async () => {
    const s = await open(address, { answers: { itemChanges: answer } });
    await s.click('tick all or none');
    await s.click('Restore 2');
    expect(s.url()).toBe('/recover/sheet');
    expect(JSON.parse(sessionStorage.getItem('lx-picks')!)).toHaveLength(2);
  });

  it('asks in the name of the person with a password that is not kept', async () => {
    const s = await open(address, { answers: { itemChanges: answer } });
    s.one<HTMLInputElement>('input[name=asOwner]').click();
    await s.settle();
    await s.type('input[name=password]', 'tide table 7');
    await s.click('Compare');
    expect(s.api.last('itemChanges')?.body).toMatchObject({ own: 'tide table 7' });
    expect(s.one<HTMLInputElement>('input[name=password]').value).toBe('');
  });
});
