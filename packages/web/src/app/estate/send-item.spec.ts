import { describe, expect, it } from 'vitest';
import { uuid } from '../../test/samples';
import { show } from '../../test/stage';
import { ApiFailure } from '../data/api';
import { SendItem } from './send-item';

describe('an item that goes by mail', () => {
  it('is sent to whom was said, with words, and says why not', async () => {
    const s = await show(SendItem, { pointId: uuid(7), path: 'Mail/INBOX/a.eml' }, {});
    await s.click('Send by mail');
    expect(s.button('Send it').disabled).toBe(true);
    await s.type('input[name=to]', 'ivo.lind@kelmar.example');
    await s.type('input[name=words]', 'As you asked');
    s.api.answers.sendItem = new ApiFailure('NOTICE_FAILED', 'It did not go out.', undefined);
    await s.click('Send it');
    expect(s.one('[role=alert]').textContent).toContain('It did not go out.');
    s.api.answers.sendItem = {};
    await s.click('Send it');
    expect(s.api.last('sendItem')).toMatchObject({
      id: uuid(7),
      body: { path: 'Mail/INBOX/a.eml', to: 'ivo.lind@kelmar.example', words: 'As you asked' },
    });
    expect(s.one('[role=status]').textContent).toContain('Sent to ivo.lind@kelmar.example.');
    await s.set('path', 'Mail/INBOX/b.eml');
    expect(s.button('Send by mail')).toBeTruthy();
  });
});
