import { ItemChange } from '@lithodex/kinds';
import { z } from 'zod';
import { Count, Empty, EscapedPath, Id, Instant, Named, Reason, Uuid } from './common';
import { keepers, restorers } from './roles';
import { byUuid, route, type Route } from './route';

/** Whom it is for, when it was last right, and what it is about. */
export const DeskBody = z.object({
  workloadId: Id,
  /** The newest point that is not younger is taken. */
  at: Instant,
  about: z.string().trim().max(200).default(''),
  /** What of theirs is looked at: folders at the top of a point; none for everything. */
  tops: z.array(z.string().max(20)).max(10).default([]),
});
export type DeskBody = z.infer<typeof DeskBody>;

export const DeskItem = ItemChange.extend({ path: EscapedPath });
export type DeskItem = z.infer<typeof DeskItem>;

/** What was there then and is not now, by what went together and between which points. */
export const DeskAnswer = z.object({
  pointId: Uuid,
  moment: Instant,
  looked: Count,
  gone: Count,
  more: Count,
  groups: z.array(
    z.object({
      /** The last point that has it, and the first that has not; null where no point of later is there. */
      from: Instant,
      to: Instant.nullable(),
      /** '' where they come from several. */
      folder: z.string(),
      /** They went at once, all from one folder. */
      together: z.boolean(),
      items: z.array(DeskItem),
    }),
  ),
  troubles: z.array(z.object({ top: z.string(), trouble: z.string() })),
});
export type DeskAnswer = z.infer<typeof DeskAnswer>;

/** An item that is sent by mail, to whom and why. */
export const SendBody = z.object({ path: EscapedPath.min(1), to: z.email().max(200), words: Reason });

/** What a point of somebody holds beside what is there now, field by field. */
export const ChangesBody = z.object({
  /** Of a mail store inside a disk: whose mailbox it is compared with. */
  workloadId: Id.nullable().default(null),
  /** A folder of the point; '' for everything. */
  path: EscapedPath.default(''),
  about: z.string().trim().max(200).default(''),
  /** Password of the person whose data it is: the services are asked in their name. It is kept nowhere. */
  own: z.string().min(1).max(1000).nullable().default(null),
});
export const ChangesAnswer = z.object({
  workload: Named,
  moment: Instant,
  looked: Count,
  counts: z.object({ gone: Count, changed: Count, added: Count }),
  /** What is otherwise first, then what is gone, then what is new. */
  items: z.array(DeskItem),
  more: Count,
  troubles: z.array(z.object({ top: z.string(), trouble: z.string() })),
});
export type ChangesAnswer = z.infer<typeof ChangesAnswer>;

/** The restore desk. */
export const deskRoutes = {
  deskLook: route({
    method: 'post',
    path: '/desk/look',
    summary: 'What somebody had at a moment and has no more, by what went together; recorded in the audit trail',
    access: restorers,
    body: DeskBody,
    response: DeskAnswer,
  }),
  itemChanges: route({
    method: 'post',
    path: '/points/:id/changes',
    summary: 'What a point of a person or a site holds beside what is there now, read live, field by field; recorded in the audit trail',
    access: restorers,
    params: byUuid,
    body: ChangesBody,
    response: ChangesAnswer,
  }),
  mailStores: route({
    method: 'get',
    path: '/points/:id/mail-stores',
    summary: 'Mail stores inside a disk of a machine’s point, found by how they are laid out',
    access: keepers,
    params: byUuid,
    query: z.object({ path: EscapedPath }),
    response: z.object({
      rows: z.array(z.object({ path: EscapedPath, layout: z.string() })),
      /** Everything was looked at. */
      whole: z.boolean(),
    }),
  }),
  sendItem: route({
    method: 'post',
    path: '/points/:id/send',
    summary: 'Send one item of a point by mail, as a file, at most 15 MiB; recorded in the audit trail',
    access: keepers,
    params: byUuid,
    body: SendBody,
    response: Empty,
  }),
} as const satisfies Record<string, Route>;
