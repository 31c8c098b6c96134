import { z } from 'zod';
import { Empty, Id } from './common';
import { everyRole, keepers, readers, restorers, runners } from './roles';
import { byId, route, type Route } from './route';
import { Band, BandCommits, BesideQuery, BesideRows, BesideTable, CommitsQuery, SwapBody, System, SystemBody, SystemTest } from './system';

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
  besideTables: route({
    method: 'get',
    path: '/runs/:id/beside',
    summary: 'Tables that a restore put beside others',
    access: restorers,
    params: byId,
    response: z.object({ rows: z.array(BesideTable) }),
  }),
  besideRows: route({
    method: 'get',
    path: '/runs/:id/beside/rows',
    summary: 'How a table differs from the one that a restore put beside it',
    access: restorers,
    params: byId,
    query: BesideQuery,
    response: BesideRows,
  }),
  swapBeside: route({
    method: 'post',
    path: '/runs/:id/beside/swap',
    summary: 'Give a table and the one that a restore put beside it the place of each other',
    access: restorers,
    params: byId,
    body: SwapBody,
    response: z.object({ remarks: z.array(z.string()) }),
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
