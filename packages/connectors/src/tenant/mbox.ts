import type { TreeEntry } from '@lithodex/engine';
import type { FoundItem } from '../readable-tree';
import { itemFacts } from './item-facts';
import { storedBytes } from './stored-bytes';

const days = ['Sun', 'Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat'];
const months = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec'];
const two = (n: number) => String(n).padStart(2, '0');

/** The line before a message (RFC 4155): who sent it, and when it came (UTC). */
function fromLine(at: number, from: string): string {
  const address = /<([^<>\s]+)>/.exec(from)?.[1] ?? /[^\s<>"]+@[^\s<>"]+/.exec(from)?.[0] ?? 'MAILER-DAEMON';
  const d = new Date(at);
  const date = `${days[d.getUTCDay()]} ${months[d.getUTCMonth()]} ${String(d.getUTCDate()).padStart(2)}`;
  return `From ${address} ${date} ${two(d.getUTCHours())}:${two(d.getUTCMinutes())}:${two(d.getUTCSeconds())} ${d.getUTCFullYear()}\n`;
}

/** A message as it stands in a mailbox of one file (mboxrd): ends of lines as files have them, and lines that begin like the one before it marked. Undefined for what is no message. */
export async function mboxMessage(found: Pick<FoundItem, 'tree'> & { readonly entry: TreeEntry }): Promise<Buffer | undefined> {
  const facts = itemFacts(found.entry);
  if (facts?.type !== 'message') return undefined;
  // bytes of any kind go through as characters of one byte
  const text = (await storedBytes(found)).toString('latin1').replaceAll('\r\n', '\n');
  const marked = text.replace(/^(>*From )/gm, '>$1');
  return Buffer.from(`${fromLine(facts.at, facts.from)}${marked}${marked.endsWith('\n') ? '' : '\n'}\n`, 'latin1');
}
