import { z } from 'zod';
import { ByteString, Bytes, Count, Instant } from './values';

const Line = z.string().max(4000);

/** A message as it is read: nothing of it has been cleaned, so it goes nowhere but into a frame where nothing runs. */
export const MessageView = z.object({
  as: z.literal('message'),
  subject: Line,
  from: Line,
  to: Line,
  cc: Line,
  /** As the sender says; null where it says none. */
  date: Instant.nullable(),
  headers: z.array(z.object({ name: z.string().max(200), value: Line })).max(100),
  /** Headers beyond these. */
  moreHeaders: Count,
  text: z.string().max(200_000),
  html: z.string().max(500_000),
  /** The text or the page goes on. */
  cut: z.boolean(),
  attachments: z.array(z.object({ no: Count, name: z.string().max(300), type: z.string().max(200), size: Bytes })).max(200),
});
/** An appointment or a contact, line by line. */
export const FieldsView = z.object({
  as: z.literal('fields'),
  title: Line,
  rows: z.array(z.object({ label: z.string().max(100), value: Line })).max(300),
});
/** A day of a conversation. */
export const ChatView = z.object({
  as: z.literal('chat'),
  lines: z.array(z.object({ at: Instant, who: z.string().max(300), text: Line })).max(2000),
  more: Count,
});
export const ItemView = z.discriminatedUnion('as', [MessageView, FieldsView, ChatView]);
export type ItemView = z.infer<typeof ItemView>;

/** Something that was there at a point and is not now, or is otherwise; or that is there now and was not. */
export const ItemChange = z.object({
  /** Byte string in the point; '' for what is new. */
  path: ByteString,
  type: z.enum(['message', 'appointment', 'contact', 'file']),
  change: z.enum(['gone', 'changed', 'added']),
  label: z.string().max(1000),
  /** Sender, beginning, addresses. */
  about: z.string().max(400),
  folder: z.string().max(1000),
  at: Instant.nullable(),
  size: Bytes,
  /** What is otherwise, field by field. */
  differs: z.array(z.object({ what: z.string().max(100), was: z.string().max(300), now: z.string().max(300) })).max(30),
});
export type ItemChange = z.infer<typeof ItemChange>;
export const ItemChanges = z.object({
  items: z.array(ItemChange).max(3000),
  /** Items of the point that were looked at. */
  looked: Count,
  counts: z.object({ gone: Count, changed: Count, added: Count }),
  /** Those beyond the ones that are told. */
  more: Count,
  troubles: z.array(z.object({ top: z.string().max(20), trouble: z.string().max(400) })),
});
export type ItemChanges = z.infer<typeof ItemChanges>;

/** A mail store that was found in a disk: the folder it lies in, below where it was looked for. */
export const FoundMailStore = z.object({ path: ByteString, layout: z.enum(['Maildir', 'mbox', 'dbox']) });
export type FoundMailStore = z.infer<typeof FoundMailStore>;
export const FoundMailStores = z.object({
  stores: z.array(FoundMailStore).max(200),
  /** Everything was looked at. */
  whole: z.boolean(),
});
export type FoundMailStores = z.infer<typeof FoundMailStores>;

/** One attachment of a message, base64. */
export const AttachedFile = z.object({ name: z.string().max(300), type: z.string().max(200), data: z.string() });
export type AttachedFile = z.infer<typeof AttachedFile>;
