import { z } from 'zod';
import { Empty, Id, Instant } from './common';
import { moverDuties } from './duties';
import { MoverName } from './mover';
import { keepers, readers } from './roles';
import { route } from './route';

/** SHA-256 in hex of the token that a mover made for itself, and will have once it is let in. */
const TokenSum = z.string().regex(/^[0-9a-f]{64}$/);
export const MoverAsks = z.object({ mover: MoverName, sum: TokenSum });
export const MoverAnswer = z.object({ state: z.enum(['waiting', 'admitted', 'refused']) });
export type MoverAnswer = z.infer<typeof MoverAnswer>;

/** Digits that a person compares: the host of the mover shows the same. Of the first bytes of the sum. */
export const pairingNumber = (sum: string): string => {
  const digits = String(Number.parseInt(sum.slice(0, 12), 16) % 1_000_000).padStart(6, '0');
  return `${digits.slice(0, 3)} ${digits.slice(3)}`;
};

/** A mover that wants to come in. */
export const AskingMover = z.object({
  /** The first half of the sum: what opens nothing names it. */
  id: z.string().regex(/^[0-9a-f]{32}$/),
  name: z.string(),
  number: z.string(),
  address: z.string(),
  askedAt: Instant,
});
export type AskingMover = z.infer<typeof AskingMover>;
const bySum = AskingMover.pick({ id: true });

export const askingMoverRoutes = {
  askToJoin: route({
    method: 'post',
    path: '/mover/ask',
    summary: 'Ask to become a mover, with the sum of a token of one’s own making; asked again until somebody has decided',
    access: 'anyone',
    body: MoverAsks,
    response: MoverAnswer,
  }),
  askingMovers: route({
    method: 'get',
    path: '/asking-movers',
    summary: 'Movers that want to come in',
    access: readers,
    response: z.object({ rows: z.array(AskingMover) }),
  }),
  admitMover: route({
    method: 'post',
    path: '/asking-movers/:id/admit',
    confirmed: true,
    summary: 'Let a mover in that asked; its number is the one its host shows',
    access: keepers,
    params: bySum,
    body: z.object({ duties: z.array(z.enum(moverDuties)).min(1), systems: z.array(Id).max(1000).nullable().default(null) }),
    response: Empty,
  }),
  refuseMover: route({
    method: 'delete',
    path: '/asking-movers/:id',
    summary: 'Let a mover that asked not in',
    access: keepers,
    params: bySum,
    response: Empty,
  }),
} as const;
