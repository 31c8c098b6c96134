import { describe, expect, it } from 'vitest';
import { now, show } from '../../test/stage';
import { ApiFailure } from '../data/api';
import { SignIn } from './sign-in';

const me = { id: 1, name: 'eva.vind', display: 'Eva Vind', role: 'administrator', remit: null, csrf: 'c', zone: 'UTC', now };

describe('signing in', () => {
  const fill = async (next?: string) => {
    const s = await show(SignIn, { next }, { answers: { signIn: me } });
    await s.type('input[name=name]', 'eva.vind');
    await s.type('input[name=password]', 'lanterns-at-dusk');
    return s;
  };

  it.each([
    [undefined, '/'],
    ['/runs?states=failed', '/runs?states=failed'],
    ['//elsewhere.example/steal', '/'],
    ['https://elsewhere.example', '/'],
  ])('leads to where one wanted to go (%s), and never out of the application', async (next, url) => {
    const s = await fill(next);
    await s.click('Sign in');
    expect(s.api.last('signIn')?.body).toEqual({ name: 'eva.vind', password: 'lanterns-at-dusk' });
    expect(s.url()).toBe(url);
  });

  it('says why it was refused, and lets one try again', async () => {
    const s = await fill();
    s.api.answers.signIn = new ApiFailure('WRONG_PASSWORD', 'Name and password do not fit.', undefined);
    await s.click('Sign in');
    expect(s.one('[role=alert]').textContent.trim()).toBe('Name and password do not fit.');
    expect(s.button('Sign in').disabled).toBe(false);
  });
});
