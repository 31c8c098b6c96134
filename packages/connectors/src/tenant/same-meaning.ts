import ICAL from 'ical.js';

/** What servers write anew each time they touch an item: it says nothing of what the item is. */
const ofTheServer = new Set(['dtstamp', 'prodid', 'last-modified', 'created', 'sequence', 'rev', 'version']);

/** Properties in an order of their own, without what servers rewrite; undefined for what can't be read. */
function meaning(text: string): string | undefined {
  const of = (component: ICAL.Component): unknown => [
    component.name,
    component
      .getAllProperties()
      .filter((p) => !ofTheServer.has(p.name) && !p.name.startsWith('x-radicale'))
      .map((p) => JSON.stringify(p.toJSON()))
      .sort(),
    component
      .getAllSubcomponents()
      .map((c) => JSON.stringify(of(c)))
      .sort(),
  ];
  try {
    const parsed = ICAL.parse(text) as unknown[];
    return JSON.stringify(of(new ICAL.Component((Array.isArray(parsed[0]) ? parsed[0] : parsed) as unknown[])));
  } catch {
    return undefined;
  }
}

/** Whether two appointments or contacts mean the same, however their servers write them. */
export function sameMeaning(a: string, b: string): boolean {
  if (a === b) return true;
  const of = meaning(a);
  return of !== undefined && of === meaning(b);
}

/** The property of an item as text; '' for none. */
export function valueOf(text: string, name: string): string {
  try {
    const parsed = ICAL.parse(text) as unknown[];
    const top = new ICAL.Component((Array.isArray(parsed[0]) ? parsed[0] : parsed) as unknown[]);
    const part = top.name === 'vcalendar' ? (top.getAllSubcomponents().find((c) => c.name !== 'vtimezone') ?? top) : top;
    return String(part.getFirstPropertyValue(name) ?? '');
  } catch {
    return '';
  }
}

/** The same item under another id, so that it can stand beside the one that is there. */
export function underId(text: string, id: string): string {
  const parsed = ICAL.parse(text) as unknown[];
  const top = new ICAL.Component((Array.isArray(parsed[0]) ? parsed[0] : parsed) as unknown[]);
  const parts = top.name === 'vcalendar' ? top.getAllSubcomponents() : [top];
  for (const part of parts) if (part.name !== 'vtimezone') part.updatePropertyWithValue('uid', id);
  return `${top.toString()}\r\n`;
}
