import ICAL from 'ical.js';

/** A property of an appointment or a contact, in words. */
export interface ItemField {
  readonly label: string;
  readonly value: string;
}

const mostFields = 300;
const longest = 4000;
const words: Readonly<Record<string, string>> = {
  summary: 'Title',
  dtstart: 'Begins',
  dtend: 'Ends',
  due: 'Due',
  location: 'Place',
  description: 'Text',
  attendee: 'With',
  organizer: 'Called by',
  rrule: 'Repeats',
  exdate: 'But not on',
  'recurrence-id': 'Instead of',
  status: 'State',
  fn: 'Name',
  email: 'Mail',
  tel: 'Telephone',
  org: 'Organisation',
  title: 'Function',
  adr: 'Address',
  note: 'Note',
  bday: 'Born',
  url: 'Address in the web',
};
/** Of servers and programs, not of people. */
const unsaid = new Set(['uid', 'dtstamp', 'prodid', 'version', 'n', 'sequence', 'created', 'last-modified', 'rev', 'photo']);

/** What an appointment or a contact says, field by field; undefined for text that is neither. */
export function itemFields(text: string): ItemField[] | undefined {
  try {
    const parsed = ICAL.parse(text) as unknown[];
    const top = new ICAL.Component((Array.isArray(parsed[0]) ? parsed[0] : parsed) as unknown[]);
    const parts = top.name === 'vcalendar' ? top.getAllSubcomponents().filter((c) => c.name !== 'vtimezone') : [top];
    const fields = parts.flatMap((part) =>
      part
        .getAllProperties()
        .filter((p) => !unsaid.has(p.name) && !p.name.startsWith('x-'))
        .map((p) => {
          const who = p.getFirstParameter('cn');
          const value = p
            .getValues()
            .map(String)
            .join(', ')
            .replace(/^mailto:/i, '');
          return { label: (words[p.name] ?? p.name).slice(0, 100), value: (who ? `${who} <${value}>` : value).slice(0, longest) };
        }),
    );
    return fields.slice(0, mostFields);
  } catch {
    return undefined;
  }
}

/** What a field is called, as it was and as it is. */
export interface FieldChange {
  readonly what: string;
  readonly was: string;
  readonly now: string;
}

const said = Object.values(words);
/** What people look for first comes first. */
const rank = (label: string) => (said.includes(label) ? said.indexOf(label) : said.length);

/** Fields in which two differ; what several fields of one name hold is compared as a whole. */
export function changedFields(then: readonly ItemField[], now: readonly ItemField[]): FieldChange[] {
  const gathered = (fields: readonly ItemField[]) => {
    const found = new Map<string, string[]>();
    for (const { label, value } of fields) found.set(label, [...(found.get(label) ?? []), value]);
    return new Map([...found].map(([label, values]) => [label, values.sort().join('; ')]));
  };
  const [a, b] = [gathered(then), gathered(now)];
  return [...new Set([...a.keys(), ...b.keys()])]
    .map((what) => ({ what, was: a.get(what) ?? '', now: b.get(what) ?? '' }))
    .filter(({ was, now: is }) => was !== is)
    .sort((x, y) => rank(x.what) - rank(y.what));
}
