import { describe, expect, it } from 'vitest';
import { partsWords, readBeforeWords } from './tenant-words';

const hour = 3_600_000;

describe('parts of a member', () => {
  it('are named as people say them', () => {
    expect(partsWords([])).toBe('everything');
    expect(partsWords(['Mail'])).toBe('mail');
    expect(partsWords(['Mail', 'Calendars', 'Contacts'])).toBe('mail, calendars and contacts');
  });

  it('tell how much older than their point they are, the newest first', () => {
    const moment = 1_795_000_000_000;
    expect(readBeforeWords({}, moment)).toBe('');
    expect(readBeforeWords({ Drive: moment - 48 * hour, Calendars: moment - 4 * hour, Contacts: moment - 4 * hour }, moment)).toBe(
      'calendars and contacts read 4 h before, drives read 2 days before',
    );
  });
});
