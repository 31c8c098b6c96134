import type { About, FirstStep } from '@lithodex/contract';
import { describe, expect, it } from 'vitest';
import { now, show } from '../../test/stage';
import { ApiFailure } from '../data/api';
import { BeginPage } from '../signin/begin-page';
import { AboutPage } from './about-page';
import { FirstStepsHint } from './first-steps-hint';
import { FirstStepsPage } from './first-steps-page';

const stepsWith = (done: readonly FirstStep['name'][]): FirstStep[] =>
  (['second', 'target', 'envelope', 'source', 'policy', 'point', 'restore'] as const).map((name) => ({
    name,
    done: done.includes(name),
    note:
      name === 'target' && done.includes(name)
        ? 'quay-disk'
        : name === 'envelope' && !done.includes(name)
          ? '1 target without: quay-disk'
          : '',
  }));

const code = 'lxf_a-code-for-the-first-one';

describe('the first administrator', () => {
  it('gets a name to sign in with, chooses a zone, and sets up a second factor next', async () => {
    const s = await show(BeginPage, { code }, { answers: { makeFirstPerson: { step: 'enrol', ways: ['code', 'passkey'] } } });
    await s.type('input[name=display]', 'Åse  Vind-Holm');
    expect(s.one<HTMLInputElement>('input[name=name]').value).toBe('ase.vind-holm');
    expect(s.button('Begin').disabled).toBe(true);
    await s.type('input[name=password]', 'some unusual lanterns');
    await s.click('Begin');
    expect(s.api.last('makeFirstPerson')?.body).toMatchObject({ code, name: 'ase.vind-holm', display: 'Åse  Vind-Holm' });
    expect(s.url()).toBe('/sign-in?step=enrol&next=/first-steps');
  });

  it('is told why it did not work, and may try again', async () => {
    const refused = new ApiFailure('PASSWORD_WEAK', 'This password is too easy to guess.', undefined);
    const s = await show(BeginPage, { code }, { answers: { makeFirstPerson: refused } });
    await s.type('input[name=display]', 'Eva Vind');
    await s.type('input[name=name]', 'eva');
    await s.type('input[name=display]', 'Eva V');
    expect(s.one<HTMLInputElement>('input[name=name]').value).toBe('eva');
    await s.type('input[name=password]', 'password1234');
    await s.click('Begin');
    expect(s.one('[role=alert]').textContent).toContain('too easy to guess');
    expect(s.button('Begin').disabled).toBe(false);
  });
});

describe('the first steps', () => {
  it('say what is done, and lead to what comes next', async () => {
    const s = await show(
      FirstStepsPage,
      {},
      { answers: { firstSteps: { steps: stepsWith(['second', 'target']), hidden: false }, hideFirstSteps: {} } },
    );
    expect(s.text()).toContain('2 of 7 done');
    expect(s.one('li.now').textContent).toContain('Its key envelope');
    expect(s.one('li.now').textContent).toContain('1 target without: quay-disk');
    await s.click('Do not show it in Watch');
    expect(s.api.last('hideFirstSteps')?.body).toEqual({ hidden: true });
  });

  it.each([
    [stepsWith(['second', 'target']), false, '5 of 7 first steps are left. Next: its key envelope, kept outside.'],
    [
      stepsWith(['second', 'target', 'envelope', 'source', 'policy', 'point']),
      false,
      '1 of 7 first steps is left. Next: a restore, tried.',
    ],
    [stepsWith(['second']), true, ''],
    [stepsWith(['second', 'target', 'envelope', 'source', 'policy', 'point', 'restore']), false, ''],
  ])('are spoken of in Watch while some are left', async (steps, hidden, words) => {
    const s = await show(FirstStepsHint, {}, { answers: { firstSteps: { steps, hidden } } });
    expect(s.text().replaceAll(/\s+/g, ' ').trim()).toBe(words);
  });
});

describe('what is running', () => {
  it('names movers of another version', async () => {
    const about: About = {
      version: '0.1.0',
      schema: '0050-envelopes',
      database: '10.11.6-MariaDB',
      node: '20.19.0',
      system: 'Linux 6.1',
      moverLanguage: 15,
      movers: [
        { name: 'quay-mover', current: true },
        { name: 'old-mover', current: false },
      ],
      zone: 'Europe/Oslo',
      encrypted: true,
    };
    const s = await show(AboutPage, {}, { answers: { about } });
    expect(s.text()).toContain('HTTPS');
    expect(s.text()).toMatch(/old-mover\s+of another version/);
    expect(now).toBeGreaterThan(0);
  });
});
