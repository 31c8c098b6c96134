import { z } from 'zod';
import { Empty, Id } from './common';
import { everyRole, keepers, readers, runners } from './roles';
import { byId, route, type Route } from './route';
import { Band, BandCommits, CommitsQuery, System, SystemBody, SystemTest } from './system';

/** Systems whose workloads are found in them: database servers. */
export const systemRoutes = {
  listSystems: route({
    method: 'get',
    path: '/systems',
    summary: 'Systems that are connected, with what was found there',
    access: readers,
    response: z.object({ rows: z.array(System) }),
  }),
  testSystem: route({
    method: 'post',
    path: '/systems/test',
    summary: 'Test a connection to a system without saving it',
    access: keepers,
    body: z.object({ id: Id.nullable().default(null), body: SystemBody }),
    response: SystemTest,
  }),
  addSystem: route({
    method: 'post',
    path: '/systems',
    summary: 'Connect a system and read what is there',
    access: keepers,
    body: SystemBody,
    response: z.object({ id: Id, workloads: z.array(Id) }),
  }),
  changeSystem: route({
    method: 'put',
    path: '/systems/:id',
    summary: 'Change the connection to a system',
    access: keepers,
    params: byId,
    body: SystemBody,
    response: Empty,
  }),
  databaseBand: route({
    method: 'get',
    path: '/workloads/:id/band',
    summary: 'The stretches of time in which any second of a database server can be brought back',
    access: everyRole,
    params: byId,
    response: Band,
  }),
  databaseCommits: route({
    method: 'get',
    path: '/workloads/:id/commits',
    summary: 'What the log of a database server says was done around a moment',
    access: everyRole,
    params: byId,
    query: CommitsQuery,
    response: BandCommits,
  }),
  readSystem: route({
    method: 'post',
    path: '/systems/:id/read',
    summary: 'Read again what is on a system',
    access: runners,
    params: byId,
    response: Empty,
  }),
} as const satisfies Record<string, Route>;
