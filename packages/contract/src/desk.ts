import { MissingItem } from '@lithodex/kinds';
import { z } from 'zod';
import { Count, EscapedPath, Id, Instant, Uuid } from './common';
import { restorers } from './roles';
import { route, type Route } from './route';

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

export const DeskItem = MissingItem.extend({ path: EscapedPath });
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
} as const satisfies Record<string, Route>;
