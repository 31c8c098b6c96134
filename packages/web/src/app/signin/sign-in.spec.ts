import { describe, expect, it } from 'vitest';
import { now, show } from '../../test/stage';
import { ApiFailure } from '../data/api';
import { SignIn } from './sign-in';

const me = {
  id: 1,
  name: 'eva.vind',
  display: 'Eva Vind',
  role: 'administrator',
  remit: null,
  csrf: 'c',
  idleMinutes: null,
  zone: 'UTC',
  now,
};

describe('signing in', () => {
  const fill = async (next?: string) => {
    const s = await show(
      SignIn,
      { next },
      { answers: { signIn: me, signInWays: { organisation: 'Kelmar Harbour', selfService: false, nobodyYet: false } } },
    );
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

  it('asks for a second factor, and leads on with it', async () => {
    const s = await fill();
    s.api.answers.signIn = { step: 'second', ways: ['code', 'recovery'] };
    await s.click('Sign in');
    s.api.answers.showSecond = new ApiFailure('SECOND_REFUSED', 'This does not fit.', undefined);
    await s.type('input[name=code]', '123456');
    await s.click('Go on');
    expect(s.one('[role=alert]').textContent.trim()).toBe('This does not fit.');
    await s.click('Use a recovery code');
    s.api.answers.showSecond = me;
    await s.type('input[name=recovery]', 'abcde-fghij');
    await s.click('Go on');
    expect(s.api.last('showSecond')?.body).toEqual({ by: 'recovery', code: 'abcde-fghij' });
    expect(s.url()).toBe('/');
  });

  it('sets up a second factor where it is needed, and shows the recovery codes before it goes on', async () => {
    const s = await fill();
    s.api.answers.signIn = { step: 'enrol', ways: ['code', 'passkey'] };
    await s.click('Sign in');
    s.api.answers.offerCode = { address: 'otpauth://totp/x', secret: 'SECRET', picture: '<svg/>' };
    await s.click('Set up codes by an authenticator');
    expect(s.text()).toContain('SECRET');
    s.api.answers.takeCode = { recovery: ['aaaaa-bbbbb', 'ccccc-ddddd'], signedIn: me };
    await s.type('input[name=code]', '654321');
    await s.click('Use it from now on');
    expect(s.text()).toContain('aaaaa-bbbbb');
    await s.click('I have kept them');
    expect(s.url()).toBe('/');
  });

  it('has a first password changed', async () => {
    const s = await fill();
    s.api.answers.signIn = { step: 'password', ways: [] };
    await s.click('Sign in');
    s.api.answers.choosePassword = new ApiFailure('PASSWORD_WEAK', 'Too easy to guess.', undefined);
    await s.type('input[name=fresh]', 'password1234');
    await s.click('Go on');
    expect(s.text()).toContain('Too easy to guess.');
  });

  it('offers the way by the organisation, and says what went wrong there', async () => {
    const s = await show(
      SignIn,
      { problem: 'None of your groups is let in here.', next: '/runs' },
      { answers: { signInWays: { organisation: 'Kelmar Harbour', selfService: false, nobodyYet: false } } },
    );
    await s.settle();
    expect(s.one('a.act').getAttribute('href')).toBe('/api/v1/session/organisation?next=%2Fruns');
    expect(s.text()).toContain('None of your groups');
  });
});
