import PostalMime, { type Address, type Attachment, type Email } from 'postal-mime';
import { parentPort, workerData } from 'node:worker_threads';
import type { AttachedFile, ItemView } from '@lithodex/kinds';

/** What is wanted of a message: what it says, or one of its attachments. */
export interface MessageStart {
  readonly bytes: Uint8Array;
  readonly attachment: number | null;
  /** Bytes of an attachment that are given at most. */
  readonly mostBytes: number;
}
export type MessageAnswer = { readonly view: Extract<ItemView, { as: 'message' }> } | { readonly file: AttachedFile | null };

const mostText = 200_000;
const mostHtml = 500_000;
const mostHeaders = 100;
const mostLine = 4000;

const nameOf = (a: Address | undefined): string =>
  a === undefined
    ? ''
    : 'address' in a && a.address
      ? a.name
        ? `${a.name} <${a.address}>`
        : a.address
      : `${a.name}: ${(a.group ?? []).map(nameOf).join(', ')}`;
const listOf = (all: readonly Address[] | undefined) => (all ?? []).map(nameOf).join(', ').slice(0, mostLine);
const bytesOf = ({ content }: Attachment): Uint8Array =>
  typeof content === 'string' ? Buffer.from(content) : new Uint8Array(content as ArrayBuffer);

function viewOf(mail: Email): Extract<ItemView, { as: 'message' }> {
  const date = Date.parse(mail.date ?? '');
  const [text, html] = [mail.text ?? '', mail.html ?? ''];
  return {
    as: 'message',
    subject: (mail.subject ?? '').slice(0, mostLine),
    from: nameOf(mail.from).slice(0, mostLine),
    to: listOf(mail.to),
    cc: listOf(mail.cc),
    date: Number.isFinite(date) ? date : null,
    headers: mail.headers.slice(0, mostHeaders).map((h) => ({ name: h.originalKey.slice(0, 200), value: h.value.slice(0, mostLine) })),
    moreHeaders: Math.max(0, mail.headers.length - mostHeaders),
    text: text.slice(0, mostText),
    html: html.slice(0, mostHtml),
    cut: text.length > mostText || html.length > mostHtml,
    attachments: mail.attachments.slice(0, 200).map((a, no) => ({
      no,
      name: (a.filename ?? '').slice(0, 300) || `attachment ${no + 1}`,
      type: a.mimeType.slice(0, 200),
      size: bytesOf(a).length,
    })),
  };
}

/** Thread that takes a message apart: what is wrong in one goes wrong here, within the bounds of the thread. */
const { bytes, attachment, mostBytes } = workerData as MessageStart;
const mail = await PostalMime.parse(bytes, { maxNestingDepth: 40 });
let answer: MessageAnswer;
if (attachment === null) answer = { view: viewOf(mail) };
else {
  const found = mail.attachments[attachment];
  const content = found && bytesOf(found);
  answer = {
    file:
      found && content && content.length <= mostBytes
        ? { name: (found.filename ?? '').slice(0, 300), type: found.mimeType.slice(0, 200), data: Buffer.from(content).toString('base64') }
        : null,
  };
}
parentPort!.postMessage(answer);
