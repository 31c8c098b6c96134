import { ClaimName, ResourcePair } from '@lithodex/kinds';
import { z } from 'zod';
import { Empty, EscapedPath } from './common';
import { keepers, readers, restorers } from './roles';
import { byId, byUuid, route, type Route } from './route';

/** Applications of container clusters. */
export const applicationRoutes = {
  resourcePair: route({
    method: 'get',
    path: '/points/:id/resource',
    summary: 'A resource of an application as a point has it, and as it is now',
    access: readers,
    params: byUuid,
    query: z.object({ path: EscapedPath }),
    response: ResourcePair,
  }),
  switchVolume: route({
    method: 'post',
    path: '/workloads/:id/volumes/switch',
    summary: 'Have an application use another of its volumes',
    access: restorers,
    params: byId,
    body: z.object({ from: ClaimName, to: ClaimName }),
    response: Empty,
  }),
  removeVolume: route({
    method: 'post',
    path: '/workloads/:id/volumes/remove',
    summary: 'Remove a volume that an application was switched from',
    access: keepers,
    params: byId,
    body: z.object({ claim: ClaimName }),
    response: Empty,
  }),
} satisfies Record<string, Route>;
