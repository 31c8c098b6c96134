import { ShareAddress, ShareOpener } from '@lithodex/kinds';
import { z } from 'zod';
import { Empty, Id, Name } from './common';
import { keepers } from './roles';
import { byId, route } from './route';

export { ShareRef } from '@lithodex/kinds';

/** A share to keep. `opener` is null to leave it as it is, for the address it was given for. */
export const ShareBody = z.object({ name: Name, address: ShareAddress, opener: ShareOpener.nullable() });
export type ShareBody = z.infer<typeof ShareBody>;

export const Share = z.object({ id: Id, name: z.string(), address: ShareAddress, account: z.string() });
export type Share = z.infer<typeof Share>;

/** What came of signing in to a share, and of making and removing a folder there. */
export const ShareTest = z.object({ ok: z.boolean(), message: z.string().max(2000) });
export type ShareTest = z.infer<typeof ShareTest>;

export const shareRoutes = {
  listShares: route({
    method: 'get',
    path: '/shares',
    summary: 'Shares that files can be brought to',
    access: keepers,
    response: z.object({ rows: z.array(Share) }),
  }),
  addShare: route({
    method: 'post',
    path: '/shares',
    summary: 'Keep a share, once it was tried',
    access: keepers,
    body: ShareBody,
    response: z.object({ id: Id }),
  }),
  changeShare: route({
    method: 'put',
    path: '/shares/:id',
    summary: 'Change a share, once it was tried',
    access: keepers,
    params: byId,
    body: ShareBody,
    response: Empty,
  }),
  removeShare: route({
    method: 'delete',
    path: '/shares/:id',
    summary: 'Forget a share; what was brought there stays',
    access: keepers,
    params: byId,
    response: Empty,
  }),
} as const;
