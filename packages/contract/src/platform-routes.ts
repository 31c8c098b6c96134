import { z } from 'zod';
import { QueryInstant, Empty, Id, page, ListQuery, Name, Named, Uuid } from './common';
import * as platform from './platform';
import { keepers, readers, runners } from './roles';
import { Started } from './runs';
import { byId, byUuid, route, type Route } from './route';

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
  takeSnapshot: route({
    method: 'post',
    path: '/machines/:id/snapshot',
    summary: 'Have the storages of a machine keep all their disks as they are now',
    access: runners,
    params: byId,
    body: z.object({ name: Name.default('by hand') }),
    response: z.object({ storages: z.array(z.string()) }),
  }),
  removeSnapshot: route({
    method: 'delete',
    path: '/snapshots/:id',
    summary: 'Have a storage let go a snapshot, with all machines in it',
    access: keepers,
    params: byUuid,
    response: Empty,
  }),
  copySnapshot: route({
    method: 'post',
    path: '/snapshots/:id/copy',
    summary: 'Store a machine as a snapshot of its storage has it on a target',
    access: runners,
    params: byUuid,
    body: z.object({
      targetId: Uuid,
      /** For how many days it is kept; null until somebody lets it go. */
      days: z.int().min(1).max(36_500).nullable(),
      reason: z.string().trim().max(500).default(''),
    }),
    response: Started,
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
