import { z } from 'zod';
import { QueryInstant, Empty, Id, page, ListQuery, Named } from './common';
import * as platform from './platform';
import { keepers, readers, runners } from './roles';
import { byId, route, type Route } from './route';

/** Virtualization platforms and what is on them. */
export const platformRoutes = {
  listPlatforms: route({
    method: 'get',
    path: '/platforms',
    summary: 'Virtualization platforms',
    access: readers,
    response: z.object({ rows: z.array(platform.Platform) }),
  }),
  testPlatform: route({
    method: 'post',
    path: '/platforms/test',
    summary: 'Test a connection to a platform without saving it',
    access: keepers,
    body: z.object({ id: Id.nullable().default(null), body: platform.PlatformBody }),
    response: platform.PlatformTest,
  }),
  addPlatform: route({
    method: 'post',
    path: '/platforms',
    summary: 'Connect a platform and read what is there',
    access: keepers,
    body: platform.PlatformBody,
    response: z.object({ id: Id, machines: z.int() }),
  }),
  changePlatform: route({
    method: 'put',
    path: '/platforms/:id',
    summary: 'Change the connection to a platform',
    access: keepers,
    params: byId,
    body: platform.PlatformBody,
    response: Empty,
  }),
  readPlatform: route({
    method: 'post',
    path: '/platforms/:id/read',
    summary: 'Read again what is on a platform',
    access: runners,
    params: byId,
    response: platform.ReadAnew,
  }),
  platformPlaces: route({
    method: 'get',
    path: '/platforms/:id/places',
    summary: 'Where machines can be put on a platform, asked there now',
    access: keepers,
    params: byId,
    response: platform.PlatformPlaces,
  }),
  setInside: route({
    method: 'put',
    path: '/machines/inside',
    summary: 'Give machines an account of the system inside; it is tried at each of them, and kept where it is let in',
    access: keepers,
    body: z.object({ workloads: z.array(Id).min(1).max(200), account: platform.InsideAccount }),
    response: z.object({ rows: z.array(platform.InsideTest.extend({ workload: Named })) }),
  }),
  forgetInside: route({
    method: 'delete',
    path: '/machines/:id/inside',
    summary: 'Forget the account inside a machine',
    access: keepers,
    params: byId,
    response: Empty,
  }),
  estateChanges: route({
    method: 'get',
    path: '/estate/changes',
    summary: 'What became different in the estate, newest first',
    access: readers,
    query: ListQuery.extend({ since: QueryInstant.optional() }),
    response: page(platform.EstateChange),
  }),
} as const satisfies Record<string, Route>;
