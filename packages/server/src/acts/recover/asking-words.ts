import { countOf, formatMoment } from '@lithodex/core';
import type { AskedItem, Receipt } from '@lithodex/contract';
import type { Draft } from '../notices/compose';

const shownItems = 30;
const mail = (subject: string, ...parts: readonly string[]): Draft => ({
  subject: subject.replace(/\s+/g, ' ').slice(0, 250),
  body: `${parts.filter(Boolean).join('\n\n')}\n`,
  data: {},
  attachment: null,
});

/** To somebody who misses something: the way to say what. */
export function composeLink(link: string, until: number, note: string, zone: string): Draft {
  return mail(
    'What do you miss?',
    note,
    `Here you can look for what you had and have no more, and say what is to come back:\n${link}`,
    `The link is for you only: a code is sent to this mailbox when you open it. It ends ${formatMoment(until, zone)}, ${zone}.`,
  );
}

/** The code that shows that somebody reads their own mailbox. */
export function composeCode(code: string, minutes: number): Draft {
  return mail(
    `${code} is your code`,
    `${code} lets you in, for ${minutes} minutes.`,
    'Give it to nobody. Whoever asks you for it is not the desk. If you did not ask for a code, nothing needs to be done.',
  );
}

const listOf = (items: readonly AskedItem[]) => [
  ...items.slice(0, shownItems).map((i) => `- ${i.label}${i.folder ? ` (${i.folder})` : ''}`),
  ...(items.length > shownItems ? [`and ${items.length - shownItems} more`] : []),
];

/** What came back and what did not. */
export function composeReceipt(receipt: Receipt, items: readonly AskedItem[], by: string): Draft {
  const { items: back, failed, problems } = receipt;
  const lines = problems.slice(0, shownItems).map(({ what, why }) => `- ${[what, why].filter(Boolean).join(': ')}`);
  return mail(
    failed || problems.length ? `${countOf(back, 'item')} came back, not all` : `${countOf(back, 'item')} came back`,
    `${countOf(back, 'item')} came back to where ${back === 1 ? 'it was' : 'they were'}, brought by ${by}. Nothing was removed.`,
    listOf(items).join('\n'),
    lines.length ? `What did not come back:\n${lines.join('\n')}` : '',
  );
}

/** The desk said no. */
export const composeRefusal = (why: string, by: string, items: readonly AskedItem[]): Draft =>
  mail('What you asked for does not come back', `${by} said no: ${why}`, listOf(items).join('\n'));
