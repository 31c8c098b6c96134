import { z } from 'zod';
import { Empty, Id, Name } from './common';
import { doers } from './roles';
import { byId, route } from './route';

/** A filter of the runs that a person gave a name. */
export const SavedFilter = z.object({
  id: Id,
  name: z.string(),
  /** What stands in the address. */
  query: z.record(z.string(), z.string()),
});
export type SavedFilter = z.infer<typeof SavedFilter>;

export const savedFilterRoutes = {
  listFilters: route({
    method: 'get',
    path: '/runs-filters',
    summary: 'One’s own named filters of the runs',
    access: doers,
    response: z.object({ rows: z.array(SavedFilter) }),
  }),
  saveFilter: route({
    method: 'post',
    path: '/runs-filters',
    summary: 'Give a filter of the runs a name; one of the same name is replaced',
    access: doers,
    body: z.object({
      name: Name,
      query: z.record(z.string().max(20), z.string().max(500)).refine((q) => Object.keys(q).length <= 12, 'too much'),
    }),
    response: z.object({ id: Id }),
  }),
  removeFilter: route({
    method: 'delete',
    path: '/runs-filters/:id',
    summary: 'Forget a named filter of one’s own',
    access: doers,
    params: byId,
    response: Empty,
  }),
} as const;
