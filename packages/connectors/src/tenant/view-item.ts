import { Worker } from 'node:worker_threads';
import { objectNameOf } from '@lithodex/core';
import { endThread, threadFile } from '@lithodex/engine';
import type { AttachedFile, ItemView } from '@lithodex/kinds';
import type { FoundItem } from '../readable-tree';
import { SourceError } from '../source-error';
import { ChatEvent } from './chat-client';
import { itemFacts } from './item-facts';
import { itemFields } from './item-fields';
import type { MessageAnswer, MessageStart } from './message-thread';
import { storedBytes } from './stored-bytes';

/** Longer items are not taken apart, bytes. */
const mostBytes = 48 << 20;
/** As it goes through an answer as text. */
const mostAttachment = 20 << 20;
const parseMs = 8000;
/** Of the memory of the thread that parses, MiB. */
const memory = 512;
const mostLine = 4000;
/** A message goes as a file, byte for byte: as one inside another it would be written anew on its way. */
const types: Readonly<Record<string, string>> = { appointment: 'text/calendar', contact: 'text/vcard' };

/** Takes a message apart in a thread of its own, which is ended when it takes too long. Undefined where it can't be. */
async function parsed(start: MessageStart): Promise<MessageAnswer | undefined> {
  const thread = new Worker(threadFile('message-thread'), { workerData: start, resourceLimits: { maxOldGenerationSizeMb: memory } });
  try {
    return await new Promise<MessageAnswer | undefined>((resolve) => {
      const late = setTimeout(() => {
        resolve(undefined);
      }, parseMs);
      thread.once('message', (answer: MessageAnswer) => {
        clearTimeout(late);
        resolve(answer);
      });
      thread.once('error', () => {
        clearTimeout(late);
        resolve(undefined);
      });
    });
  } finally {
    await endThread(thread);
  }
}

/** An item of an office tenant as people read it; undefined for what is shown as any file is. */
export async function viewItem(found: Pick<FoundItem, 'tree' | 'entry'>): Promise<ItemView | undefined> {
  const facts = itemFacts(found.entry);
  if (!facts || facts.type === 'file' || found.entry.size > mostBytes) return undefined;
  const bytes = await storedBytes(found);
  if (facts.type === 'message') {
    const answer = await parsed({ bytes, attachment: null, mostBytes: 0 });
    return answer && 'view' in answer ? answer.view : undefined;
  }
  return facts.type === 'day' ? chatView(bytes.toString('utf8')) : fieldsView(bytes.toString('utf8'));
}

async function itselfAttached(found: Pick<FoundItem, 'tree' | 'entry'>): Promise<AttachedFile> {
  const { entry } = found;
  if (entry.kind !== 'file' || entry.unread || entry.size > mostAttachment)
    throw new SourceError('TENANT_FAILED', 'it is no single file, or too long to be sent');
  const name = objectNameOf(entry.name)
    .replace(/[/\\\r\n]/g, '_')
    .slice(-300);
  const type = types[itemFacts(entry)?.type ?? 'file'] ?? 'application/octet-stream';
  return { name, type, data: (await storedBytes(found)).toString('base64') };
}

/** One attachment of a message, or, without a number, the item itself. Throws SourceError for one that is not there, or too long. */
export async function attachmentOf(found: Pick<FoundItem, 'tree' | 'entry'>, no: number | null): Promise<AttachedFile> {
  if (no === null) return itselfAttached(found);
  if (itemFacts(found.entry)?.type !== 'message' || found.entry.size > mostBytes)
    throw new SourceError('TENANT_FAILED', 'it is no message whose attachments are given singly');
  const answer = await parsed({ bytes: await storedBytes(found), attachment: no, mostBytes: mostAttachment });
  if (!answer || !('file' in answer) || !answer.file)
    throw new SourceError('TENANT_FAILED', 'there is no such attachment, or it is too long');
  return answer.file;
}

function fieldsView(text: string): ItemView | undefined {
  const rows = itemFields(text);
  return rows && { as: 'fields', title: rows.find((r) => r.label === 'Title' || r.label === 'Name')?.value ?? '', rows };
}

function chatView(text: string): ItemView {
  const events = text.split('\n').flatMap((line) => {
    try {
      return line ? (ChatEvent.safeParse(JSON.parse(line)).data ?? []) : [];
    } catch {
      return [];
    }
  });
  const lines = events.flatMap((e) => {
    const body = e.content['body'];
    const said = e.type === 'm.room.message' ? (typeof body === 'string' ? body : '(taken back)') : undefined;
    return said === undefined
      ? []
      : [{ at: e.origin_server_ts, who: e.sender.replace(/^@/, '').replace(/:.*/, '').slice(0, 300), text: said.slice(0, mostLine) }];
  });
  return { as: 'chat', lines: lines.slice(0, 2000), more: Math.max(0, lines.length - 2000) };
}
