import { z } from 'zod';
import { KindName, LogStart } from '@lithodex/kinds';
import { ByteReader, ByteWriter, EngineError, engineErrors, systemCode, type EngineErrorCode, type SegmentDone } from '@lithodex/engine';
import { SourceError, sourceErrors, type SourceErrorCode } from '../source-error';

/** Types of frames from the mover that reads to the one that keeps. */
export const fromReader = {
  begin: 1,
  read: 2,
  put: 3,
  segment: 4,
  blocks: 5,
  alive: 6,
  progress: 7,
  said: 8,
  done: 9,
  failed: 10,
} as const;
/** Types of frames back. */
export const fromKeeper = { brief: 1, answer: 2 } as const;

/** Bytes of the part that all stand-ins for names of one connection share. */
export const nonceBytes = 16;
/** Where the number of the node stands in the 32 bytes of a stand-in. */
export const numberAt = nonceBytes;

const Count = z.int().nonnegative();
/** A root as it stands on a target: the mover that keeps has made it, or checked what it is made of. */
const RootSent = z.looseObject({ taskId: z.string(), top: z.string() });

/** What is to be done: sent first. */
export const Brief = z.object({
  do: z.enum(['capture', 'survey']),
  /** Begins every stand-in for the name of a node, hex. */
  nonce: z.string().length(2 * nonceBytes),
  /** Name of a block of zeros, hex. */
  zeros: z.string().length(64),
  taskId: z.string(),
  now: z.number(),
  kind: z.enum(['full', 'incremental', 'differential', 'synthetic', 'log']),
  base: RootSent.nullable(),
  reread: RootSent.nullable(),
  logStart: LogStart.nullable(),
  logged: z.boolean(),
  fresh: z.boolean(),
  include: z.array(z.string()),
  exclude: z.array(z.string()),
  parts: z.array(z.string()).default([]),
  /** Bytes free on the target; null where nobody can tell. */
  free: z.number().nullable(),
});
export type Brief = z.infer<typeof Brief>;

/** How many new chunks there may be, at most what a table of them takes. */
export const Begin = z.object({
  expected: z
    .int()
    .min(0)
    .max(64 << 20),
  fresh: z.boolean(),
});
/** Tasks that are asked about, and in the answer those that may go on. */
export const Alive = z.object({ tasks: z.array(z.string().max(80)).max(50_000) });
export const ProgressSent = z.object({ items: Count, bytes: Count, read: Count, files: Count });
export const SaidSent = z.object({
  level: z.enum(['note', 'warning', 'warned']),
  code: z.string().max(40),
  path: z.string().max(8192),
  message: z.string().max(2000),
  missing: z.boolean(),
});

const NamesById = z.record(z.string().max(20), z.string().max(300));
const Changes = z.object({ before: Count, added: Count, changed: Count, removed: Count, random: Count });

/** What has been captured; `top` is an entry in base64. */
export const CapturedSent = z.object({
  top: z.string().max(1 << 20),
  totals: z.object({ items: Count, files: Count, bytes: Count, read: Count }),
  owners: NamesById,
  groups: NamesById,
  leftOut: z.object({ include: z.array(z.string()), exclude: z.array(z.string()), byItself: z.array(z.string().max(8192)) }),
  warnings: Count,
  content: z.object({
    kind: z.union([KindName, z.literal('databaseLog')]),
    version: z.int(),
    facts: z.unknown(),
    state: z.unknown(),
    changes: Changes.optional(),
  }),
});
export const SurveyedSent = z.object({ items: Count, files: Count, bytes: Count, warnings: Count, missing: Count });

const FailedSent = z.object({
  of: z.enum(['source', 'engine', 'system', 'other']),
  code: z.string().max(60),
  details: z.string().max(2000),
});

/** An error in a form that the other side can make one of. */
export function sentError(error: unknown): z.infer<typeof FailedSent> {
  const details = (text: string) => text.slice(0, 2000);
  if (error instanceof SourceError) return { of: 'source', code: error.code, details: details(error.details) };
  if (error instanceof EngineError) return { of: 'engine', code: error.code, details: details(error.details) };
  const code = systemCode(error);
  const message = details(error instanceof Error ? error.message : String(error));
  return code ? { of: 'system', code: code.slice(0, 60), details: message } : { of: 'other', code: '', details: message };
}

/** Inverse of {@link sentError}; LINK_BROKEN for what is none. */
export function receivedError(body: Buffer): Error {
  const sent = parsed(FailedSent, body);
  if (sent.of === 'source' && sent.code in sourceErrors) return new SourceError(sent.code as SourceErrorCode, sent.details);
  if (sent.of === 'engine' && sent.code in engineErrors) return new EngineError(sent.code as EngineErrorCode, sent.details);
  return sent.of === 'system' ? Object.assign(new Error(sent.details), { code: sent.code }) : new Error(sent.details);
}

/** An object sent as JSON. Throws LINK_BROKEN. */
export function parsed<S extends z.ZodType>(schema: S, body: Buffer): z.infer<S> {
  let value: unknown;
  try {
    value = JSON.parse(body.toString());
  } catch {
    throw new SourceError('LINK_BROKEN', 'a message is no JSON');
  }
  const result = schema.safeParse(value);
  if (!result.success) throw new SourceError('LINK_BROKEN', z.prettifyError(result.error).slice(0, 300));
  return result.data;
}

export function encodeSegment({ names, lengths, random }: Omit<SegmentDone, 'memory'>): Buffer {
  const w = new ByteWriter();
  w.u8(random ? 1 : 0);
  w.varint(lengths.length);
  for (const length of lengths) w.varint(length);
  w.bytes(names);
  return w.take();
}

export function decodeSegment(body: Buffer): Omit<SegmentDone, 'memory'> {
  const r = new ByteReader(body);
  const random = r.u8() === 1;
  const lengths = Array.from({ length: r.varint() }, () => r.varint());
  return { random, lengths, names: Buffer.from(r.bytes(32 * lengths.length)) };
}
