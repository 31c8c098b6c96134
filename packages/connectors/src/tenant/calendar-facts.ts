import { createHash } from 'node:crypto';
import ICAL from 'ical.js';
import type { TenantItem } from '@lithodex/kinds';

/** What an appointment or a contact says of itself. */
export interface TitledFacts {
  readonly id: string;
  readonly title: string;
  /** What is kept of it beside where it was. */
  readonly rest: { start: string; end: string; place: string; people: string } | { addresses: string };
}

const shorthand = (text: string) => createHash('sha256').update(text).digest('hex');

/** Tells one from others in a name. */
export const idOfName = (id: string): string => shorthand(id).slice(0, 10);

/** A value as text: times and the like say theirs by themselves. */
const cut = (value: string | number | null | { toString(): string } | undefined, most: number) => (value ?? '').toString().slice(0, most);

/** What an iCalendar object says (RFC 5545); undefined for what is none. The first of several that share an id stands for all of it. */
export function appointmentFacts(text: string): TitledFacts | undefined {
  try {
    const calendar = new ICAL.Component(ICAL.parse(text) as unknown[]);
    const parts = ['vevent', 'vtodo', 'vjournal'].flatMap((name) => calendar.getAllSubcomponents(name));
    const main = parts.find((p) => !p.hasProperty('recurrence-id')) ?? parts[0];
    if (!main) return undefined;
    const value = (name: string, most: number) => cut(main.getFirstPropertyValue(name), most);
    const people = main
      .getAllProperties('attendee')
      .map((p) => p.getFirstParameter('cn') ?? cut(p.getFirstValue(), 200).replace(/^mailto:/i, ''));
    return {
      id: value('uid', 1000),
      title: value('summary', 1000),
      rest: {
        start: value('dtstart', 80),
        end: value('dtend', 80) || value('due', 80),
        place: value('location', 1000),
        people: people.join(', ').slice(0, 4000),
      },
    };
  } catch {
    return undefined;
  }
}

/** What a vCard says (RFC 6350); undefined for what is none. */
export function contactFacts(text: string): TitledFacts | undefined {
  try {
    const parsed = ICAL.parse(text) as unknown[];
    const card = new ICAL.Component((Array.isArray(parsed[0]) ? parsed[0] : parsed) as unknown[]);
    const value = (name: string, most: number) => cut(card.getFirstPropertyValue(name), most);
    const all = [...card.getAllProperties('email'), ...card.getAllProperties('tel')].map((p) => cut(p.getFirstValue(), 200));
    return { id: value('uid', 1000), title: value('fn', 1000), rest: { addresses: all.join(', ').slice(0, 4000) } };
  } catch {
    return undefined;
  }
}

/** Facts of an item of a collection. */
export function titledItem(kind: 'calendars' | 'contacts', text: string, href: string, etag: string): TenantItem {
  const found = kind === 'calendars' ? appointmentFacts(text) : contactFacts(text);
  const last = decodeURIComponent(href.split('/').filter(Boolean).at(-1) ?? '').slice(0, 300);
  const common = { href, etag, id: found && found.id !== '' ? found.id : last, title: found?.title ?? last };
  return kind === 'calendars'
    ? { type: 'appointment', ...common, start: '', end: '', place: '', people: '', ...found?.rest }
    : { type: 'contact', ...common, addresses: '', ...found?.rest };
}
