import { itemNameOf } from '@lithodex/core';

/** Characters of a text that become a part of a name. */
const mostText = 90;

/** What is shown of a text in a name: on one line, without what names of files can't have elsewhere. */
const shown = (text: string, most = mostText): string =>
  text
    .replace(/[\p{Cc}\p{Cs}\u2028\u2029\u202a-\u202e\u2066-\u2069]+/gu, ' ')
    .replace(/[/\\:*?"<>|]+/g, '-')
    .replace(/ {2,}/g, ' ')
    .trim()
    .slice(0, most)
    .trim();

/** Name of a message without its ending, as a byte string: when it came, what it is about, who sent it, and what tells it from others. UTC, so that it is the same wherever it is read. */
export function messageStem({ at, subject, from, sum }: { at: number; subject: string; from: string; sum: string }): string {
  const sender =
    from
      .replace(/<[^>]*>/, '')
      .replaceAll('"', '')
      .trim() || from;
  const when = new Date(at).toISOString();
  const time = `${when.slice(0, 10)} ${when.slice(11, 13)}${when.slice(14, 16)}`;
  return itemNameOf(`${time} ${shown(subject) || 'no subject'} · ${shown(sender, 40) || 'nobody'} [${sum.slice(0, 10)}]`);
}

/** The same of an appointment or a contact: by its title and what tells it from others. */
export const titledStem = (title: string, id: string): string => itemNameOf(`${shown(title) || 'no title'} [${id.slice(0, 10)}]`);

/** Name of a folder that a service has, as a byte string. */
export const folderName = (name: string): string => itemNameOf(name) || '~';
