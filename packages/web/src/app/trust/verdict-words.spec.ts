import { describe, expect, it } from 'vitest';
import { day, hour, now } from '../../test/stage';
import { verdictSentence } from './verdict-words';

const scanned = (more: object = {}) => ({
  at: now - hour,
  rulesAt: now - 3 * day,
  items: 40,
  bytes: 1000,
  read: 1000,
  notLooked: 0,
  suspect: 0,
  infected: 0,
  ...more,
});
const told = (verdict: Parameters<typeof verdictSentence>[0]['verdict'], more: object | null = {}) =>
  verdictSentence({ verdict, scanned: more && scanned(more) }, 'UTC', now);

describe('a verdict in words', () => {
  it('says how much is known, and by which rules', () => {
    expect(told('unscanned', null)).toBe('not scanned: nobody knows anything for or against it');
    expect(told('clean')).toBe('scanned clean by the rules of Fri 20 Nov 09:00');
    expect(told('nothing')).toBe('nothing against it by the rules of Fri 20 Nov 09:00; newer ones have come since');
    expect(told('nothing', { notLooked: 2 })).toBe('nothing against it by the rules of Fri 20 Nov 09:00, 2 items could not be looked into');
  });

  it('counts what was found, the worst first', () => {
    expect(told('infected', { infected: 1, suspect: 3 })).toBe('1 item infected, 3 items suspect by the rules of Fri 20 Nov 09:00');
    expect(told('suspect', { suspect: 1, notLooked: 1 })).toBe(
      '1 item suspect by the rules of Fri 20 Nov 09:00, 1 item could not be looked into',
    );
  });
});
