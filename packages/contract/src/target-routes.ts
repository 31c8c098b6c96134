import { z } from 'zod';
import * as c from './common';
import * as estate from './estate';
import { keepers, readers, runners } from './roles';
import { byUuid, route, type Route } from './route';
import * as people from './people';
import { PriceTable } from './prices';
import * as runs from './runs';
import * as storage from './storage';

/** The targets: what they hold, their keys and their care. */
export const targetRoutes = {
  listTargets: route({
    method: 'get',
    path: '/targets',
    summary: 'All targets',
    access: readers,
    response: z.object({ rows: z.array(estate.Target) }),
  }),
  getTarget: route({
    method: 'get',
    path: '/targets/:id',
    summary: 'One target: its room over time, what uses it, what is locked',
    access: readers,
    params: byUuid,
    response: storage.TargetDetail,
  }),
  cartridges: route({
    method: 'get',
    path: '/targets/:id/cartridges',
    summary: 'The cartridges of a target: where each is and how much of it counts',
    access: readers,
    params: byUuid,
    response: z.object({ rows: z.array(storage.Cartridge) }),
  }),
  setPrices: route({
    method: 'put',
    path: '/targets/:id/prices',
    summary: 'Say what a target costs, or that it costs nothing that is counted',
    access: keepers,
    params: byUuid,
    body: z.object({ prices: PriceTable.nullable() }),
    response: c.Empty,
  }),
  setLimits: route({
    method: 'put',
    path: '/targets/:id/limits',
    summary: 'Say how many tasks may write to a target at once, and how fast at which hours',
    access: keepers,
    params: byUuid,
    body: z.object({ writers: z.int().min(1).max(64).nullable(), paces: z.array(estate.PaceWindow).max(8) }),
    response: c.Empty,
  }),
  retireTarget: route({
    method: 'post',
    path: '/targets/:id/retire',
    summary: 'Give a target up: policies write to another one from now on, and what stands only here is copied there',
    access: keepers,
    params: byUuid,
    body: z.object({ to: c.Uuid }),
    response: z.object({ runId: c.Id.nullable() }),
  }),
  forgetTarget: route({
    method: 'delete',
    path: '/targets/:id',
    summary: 'Forget a target that was given up, once a second person agrees; what is on it stays as it is',
    access: keepers,
    params: byUuid,
    response: people.DoneOrAsked,
  }),
  copiesMatrix: route({
    method: 'get',
    path: '/copies',
    summary: 'Where the points of each workload stand',
    access: readers,
    response: storage.CopiesMatrix,
  }),
  testTarget: route({
    method: 'post',
    path: '/targets/test',
    summary: 'Test a target without saving it',
    access: keepers,
    body: estate.TargetBody,
    response: estate.TargetTest,
  }),
  addTarget: route({
    method: 'post',
    path: '/targets',
    summary: 'Add a disk folder, a bucket or a set of cartridges as target',
    access: keepers,
    body: estate.TargetBody,
    response: z.object({ id: c.Uuid }),
  }),
  takeOverTarget: route({
    method: 'post',
    path: '/targets/take-over',
    summary: 'Take over a store that is there already: its points come into the catalog',
    access: keepers,
    body: estate.TargetBody.extend({ envelope: z.string().max(20_000), passphrase: z.string().min(1).max(200) }),
    response: z.object({ id: c.Uuid, runId: c.Id }),
  }),
  newKey: route({
    method: 'post',
    path: '/targets/:id/new-key',
    summary: 'Give a target a new key file; the old one opens nothing any more, nothing is written anew',
    access: keepers,
    params: byUuid,
    response: c.Empty,
  }),
  adoptTarget: route({
    method: 'post',
    path: '/targets/:id/adopt',
    summary: 'Look for points on a target that the catalog does not know, as after it was set back',
    access: keepers,
    params: byUuid,
    response: runs.Started,
  }),
  pruneTarget: route({
    method: 'post',
    path: '/targets/:id/prune',
    summary: 'Give back the room of what no point needs, or only tell how much that is',
    access: keepers,
    params: byUuid,
    body: z.object({ trial: z.boolean().default(false) }),
    response: runs.Started,
  }),
  verifyTarget: route({
    method: 'post',
    path: '/targets/:id/verify',
    summary: 'Read everything on a target again and check every sum',
    access: runners,
    params: byUuid,
    response: runs.Started,
  }),
  envelope: route({
    method: 'post',
    path: '/targets/:id/envelope',
    summary: 'Key envelope of a target, wrapped by a passphrase',
    access: keepers,
    params: byUuid,
    body: z.object({ passphrase: z.string().min(12).max(200) }),
    response: estate.Envelope,
  }),
} as const satisfies Record<string, Route>;
