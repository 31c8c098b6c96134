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

/** Something that was there at a point, and is not now, or is otherwise. */
export const MissingItem = z.object({
  /** Byte string in the point. */
  path: ByteString,
  type: z.enum(['message', 'appointment', 'contact', 'file']),
  change: z.enum(['gone', 'changed']),
  label: z.string().max(1000),
  /** Sender, beginning, addresses. */
  about: z.string().max(400),
  folder: z.string().max(1000),
  at: Instant.nullable(),
  size: Bytes,
  /** The first thing that is otherwise, as it was and as it is. */
  was: z.string().max(300),
  now: z.string().max(300),
});
export type MissingItem = z.infer<typeof MissingItem>;
export const MissingItems = z.object({
  items: z.array(MissingItem).max(3000),
  /** Items of the point that were looked at. */
  looked: Count,
  /** Missing ones beyond those told. */
  more: Count,
  troubles: z.array(z.object({ top: z.string().max(20), trouble: z.string().max(400) })),
});
export type MissingItems = z.infer<typeof MissingItems>;

/** One attachment of a message, base64. */
export const AttachedFile = z.object({ name: z.string().max(300), type: z.string().max(200), data: z.string() });
export type AttachedFile = z.infer<typeof AttachedFile>;
