import { describe, expect, it } from 'vitest';
import { partWarnings } from './part-warnings';

const incremental = (...parts: ('Mail' | 'Calendars' | 'Contacts' | 'Drive' | 'Files' | 'Chat')[]) => ({
  kind: 'incremental' as const,
  parts,
});

describe('a policy whose rules read parts', () => {
  it('says which of them nothing reads again', () => {
    expect(partWarnings([incremental('Mail'), incremental('Drive', 'Files')])).toMatchObject([
      { code: 'PARTS_READ_ONCE', text: expect.stringContaining('calendars, contacts and chats are read for the first point only') },
    ]);
  });

  it('says nothing where a rule reads everything, or all of them together do', () => {
    expect(partWarnings([incremental()])).toEqual([]);
    expect(partWarnings([incremental('Mail'), { kind: 'full', parts: [] }])).toEqual([]);
    expect(partWarnings([incremental('Mail', 'Calendars', 'Contacts'), incremental('Drive', 'Files', 'Chat')])).toEqual([]);
    expect(partWarnings([{ kind: 'log', parts: [] }])).toEqual([]);
  });
});
