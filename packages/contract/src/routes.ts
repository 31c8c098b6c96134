import { z } from 'zod';
import * as c from './common';
import * as estate from './estate';
import { noticeRoutes } from './notices';
import { moverRoutes } from './mover-routes';
import { knownMoverRoutes } from './known-movers';
import { askingMoverRoutes } from './asking-movers';
import { firstRoutes } from './first';
import { overviewRoutes } from './overview';
import * as people from './people';
import { planRoutes } from './plan-routes';
import { peopleRoutes } from './people-routes';
import { platformRoutes } from './platform-routes';
import { applicationRoutes } from './application-routes';
import { trustRoutes } from './trust-routes';
import { askingRoutes } from './asking';
import { deskRoutes } from './desk';
import { systemRoutes } from './system-routes';
import { policyRoutes } from './policy-routes';
import * as recover from './recover';
import { reportRoutes } from './reports';
import { everyRole, keepers, readers, restorers, runners } from './roles';
import { byId, byUuid, large, route, type Route } from './route';
import * as runs from './runs';
import { signInRoutes } from './sign-in';
import { shareRoutes } from './shares';
import { sequenceRoutes } from './sequences';
import { standingRoutes } from './standing';
import { straightRoutes } from './straight-routes';
import { savedFilterRoutes } from './saved-filters';
import { targetRoutes } from './target-routes';
import { unitRoutes } from './units';
import * as watch from './watch';

/** Every route of the API: what it takes, what it gives, who may call it. The server, the documentation and the tests walk this table. */
export const routes = {
  ...signInRoutes,
  ...firstRoutes,
  ...askingMoverRoutes,
  ...unitRoutes,
  ...applicationRoutes,
  ...trustRoutes,
  ...overviewRoutes,

  watch: route({
    method: 'get',
    path: '/watch',
    summary: 'The morning check',
    access: readers,
    query: z.object({ nights: z.coerce.number().int().min(1).max(7).default(1), by: watch.NightGrouping.default('policy') }),
    response: watch.Watch,
  }),
  looked: route({
    method: 'post',
    path: '/watch/looked',
    summary: 'Say that one has looked: what comes up later is new to one',
    access: runners,
    response: c.Empty,
  }),
  changeMatter: route({
    method: 'put',
    path: '/matters/:id',
    summary: 'Take a matter on or give it to somebody, note something, put it off',
    access: runners,
    params: z.object({ id: z.string().min(1).max(120) }),
    body: watch.MatterChange,
    response: c.Empty,
  }),
  ledge: route({ method: 'get', path: '/ledge', summary: 'What runs now and next', access: readers, response: watch.Ledge }),
  find: route({
    method: 'get',
    path: '/find',
    summary: 'Find workloads, policies, runs and files',
    access: readers,
    query: z.object({ q: z.string().trim().min(1).max(200) }),
    response: z.object({ hits: z.array(watch.FinderHit) }),
  }),
  events: route({ method: 'get', path: '/events', summary: 'Live changes as server-sent events', access: everyRole, raw: true }),

  estate: route({
    method: 'get',
    path: '/estate',
    summary: 'Workloads with their coverage, now or as of a moment, filtered and by hierarchy',
    access: everyRole,
    query: estate.EstateQuery,
    response: estate.Estate,
  }),
  estateValues: route({
    method: 'get',
    path: '/estate/values',
    summary: 'What there is to name in rules and policies',
    access: readers,
    response: estate.EstateValues,
  }),
  testSource: route({
    method: 'post',
    path: '/sources/test',
    summary: 'Test a connection without saving it',
    access: keepers,
    body: estate.SourceBody,
    response: estate.ConnectionTest,
  }),
  addSource: route({
    method: 'post',
    path: '/sources',
    summary: 'Connect a source',
    access: keepers,
    body: estate.SourceBody,
    response: z.object({ id: c.Id, workloadId: c.Id }),
  }),
  changeSource: route({
    method: 'put',
    path: '/sources/:id',
    summary: 'Change a source',
    access: keepers,
    params: byId,
    body: estate.SourceBody,
    response: c.Empty,
  }),
  removeSource: route({
    method: 'delete',
    path: '/sources/:id',
    summary: 'Disconnect a source that has no points',
    access: keepers,
    params: byId,
    response: c.Empty,
  }),
  limitSource: route({
    method: 'put',
    path: '/sources/:id/limits',
    summary: 'Say how many tasks may read a source at once',
    access: keepers,
    params: byId,
    body: z.object({ readers: z.int().min(1).max(64).nullable() }),
    response: c.Empty,
  }),
  discover: route({
    method: 'get',
    path: '/sources/:id/folders',
    summary: 'Look into a source, live',
    access: readers,
    params: byId,
    query: z.object({ path: c.EscapedPath.default('') }),
    response: estate.Discovered,
  }),
  workload: route({
    method: 'get',
    path: '/workloads/:id',
    summary: 'One workload with its points',
    access: everyRole,
    params: byId,
    response: estate.WorkloadDetail,
  }),
  readyToRebuild: route({
    method: 'get',
    path: '/workloads/:id/ready',
    summary: 'Whether a server could be rebuilt on other hardware today, and what that has to be like',
    access: everyRole,
    params: byId,
    query: z.object({ point: c.Uuid.optional() }),
    response: estate.Ready,
  }),
  tagWorkload: route({
    method: 'put',
    path: '/workloads/:id/tags',
    summary: 'Set the tags of a workload',
    access: keepers,
    params: byId,
    body: z.object({ tags: z.array(c.Name).max(30) }),
    response: c.Empty,
  }),
  protectOnce: route({
    method: 'post',
    path: '/workloads/:id/run',
    summary: 'Protect one workload now, with a retention of its own',
    access: runners,
    params: byId,
    body: runs.OnDemand,
    response: runs.Started,
  }),
  liftSuspicion: route({
    method: 'post',
    path: '/workloads/:id/lift',
    summary: 'Say that suspect points are harmless: expiry goes on',
    access: keepers,
    params: byId,
    body: z.object({ reason: c.Reason }),
    response: c.Empty,
  }),

  ...policyRoutes,
  ...platformRoutes,
  ...systemRoutes,
  ...deskRoutes,
  ...askingRoutes,
  ...targetRoutes,

  listRuns: route({
    method: 'get',
    path: '/runs',
    summary: 'Runs, newest first',
    access: everyRole,
    query: runs.RunsQuery,
    response: c.page(runs.RunRow),
  }),
  limits: route({
    method: 'get',
    path: '/limits',
    summary: 'How many tasks run at once in all; restores and downloads never wait for the others',
    access: readers,
    response: runs.Limits,
  }),
  limitAll: route({
    method: 'put',
    path: '/limits',
    summary: 'Say how many tasks may run at once in all',
    access: keepers,
    body: runs.Limits,
    response: c.Empty,
  }),
  getRun: route({
    method: 'get',
    path: '/runs/:id',
    summary: 'One run with its tasks',
    access: everyRole,
    params: byId,
    response: runs.RunDetail,
  }),
  runRates: route({
    method: 'get',
    path: '/runs/:id/rates',
    summary: 'How fast a run read and wrote, over its time',
    access: everyRole,
    params: byId,
    response: runs.RunRates,
  }),
  runLog: route({
    method: 'get',
    path: '/runs/:id/log',
    summary: 'Log of a run, searchable',
    access: everyRole,
    params: byId,
    query: runs.LogQuery,
    response: c.page(runs.LogLine),
  }),
  runLogFile: route({
    method: 'get',
    path: '/runs/:id/log.txt',
    summary: 'Log of a run as a file',
    access: everyRole,
    params: byId,
    raw: true,
  }),
  stopRun: route({ method: 'post', path: '/runs/:id/stop', summary: 'Stop a run', access: runners, params: byId, response: c.Empty }),
  retryRun: route({
    method: 'post',
    path: '/runs/:id/retry',
    summary: 'Run again what did not end well',
    access: runners,
    params: byId,
    response: runs.Started,
  }),

  tree: route({
    method: 'get',
    path: '/points/:id/tree',
    summary: 'One folder of a point',
    access: everyRole,
    params: byUuid,
    query: recover.TreeQuery,
    response: recover.Tree,
  }),
  undo: route({
    method: 'get',
    path: '/runs/:id/undo',
    summary: 'What a restore replaced as it was before it, to be brought back',
    access: restorers,
    params: byId,
    response: recover.Undo,
  }),
  ...straightRoutes,
  ...sequenceRoutes,
  ...standingRoutes,
  ...shareRoutes,
  compare: route({
    method: 'get',
    path: '/points/:id/compare',
    summary: 'An item or a folder of a point beside what is there now',
    access: everyRole,
    params: byUuid,
    query: recover.CompareQuery,
    response: recover.Compared,
  }),
  difference: route({
    method: 'get',
    path: '/points/:id/difference',
    summary: 'What differs between two points of a workload, changed items first',
    access: everyRole,
    params: byUuid,
    query: recover.DifferenceQuery,
    response: recover.Difference,
  }),
  differenceCsv: route({
    method: 'get',
    path: '/points/:id/difference/csv',
    summary: 'The same as CSV, all of it up to 200 000 items: bytes, instants in ISO 8601',
    access: everyRole,
    params: byUuid,
    query: recover.DifferenceQuery.pick({ with: true, show: true }),
    raw: true,
  }),
  holdPoint: route({
    method: 'post',
    path: '/points/:id/hold',
    summary: 'Keep a point until a person lets it go',
    access: keepers,
    params: byUuid,
    body: z.object({ reason: c.Reason }),
    response: c.Empty,
  }),
  releasePoint: route({
    method: 'delete',
    path: '/points/:id/hold',
    summary: 'Let a kept point go, once a second person agrees: retention decides again',
    access: keepers,
    params: byUuid,
    response: people.DoneOrAsked,
  }),
  versions: route({
    method: 'get',
    path: '/versions',
    summary: 'All versions of one item',
    access: everyRole,
    query: recover.VersionsQuery,
    response: recover.Versions,
  }),
  search: route({
    method: 'get',
    path: '/search',
    summary: 'Find items by name over all points',
    access: everyRole,
    query: recover.SearchQuery,
    response: recover.SearchPage,
  }),
  findPaths: route({
    method: 'post',
    path: '/search/paths',
    summary: 'Find items by a list of their paths, over all points',
    access: everyRole,
    body: recover.PathsBody,
    response: recover.PathsFound,
    limit: 8 << 20,
  }),
  planRestore: route({
    method: 'post',
    path: '/restores/plan',
    summary: 'What a restore would do',
    access: restorers,
    body: runs.PlanBody,
    response: runs.RestorePlan,
    limit: large,
  }),
  startRestore: route({
    method: 'post',
    path: '/restores',
    summary: 'Start a restore or prepare a download',
    access: restorers,
    body: runs.RestoreBody,
    response: runs.Started,
    limit: large,
  }),
  download: route({
    method: 'get',
    path: '/restores/:id/download',
    summary: 'Fetch a prepared download',
    access: restorers,
    params: byId,
    raw: true,
  }),

  ...planRoutes,
  ...savedFilterRoutes,
  ...reportRoutes,
  ...noticeRoutes,
  ...peopleRoutes,
  ...knownMoverRoutes,
  ...moverRoutes,
} as const satisfies Record<string, Route>;

export type RouteName = keyof typeof routes;
type Part<N extends RouteName, K extends string, D> = (typeof routes)[N] extends Record<K, infer S extends z.ZodType> ? z.output<S> : D;
export type Params<N extends RouteName> = Part<N, 'params', Record<string, never>>;
export type Query<N extends RouteName> = Part<N, 'query', Record<string, never>>;
export type Body<N extends RouteName> = Part<N, 'body', undefined>;
export type Answered<N extends RouteName> = Part<N, 'response', unknown>;
type InputPart<N extends RouteName, K extends string, D> = (typeof routes)[N] extends Record<K, infer S extends z.ZodType> ? z.input<S> : D;
/** What a caller sends: defaults may be left out. */
export type BodyInput<N extends RouteName> = InputPart<N, 'body', undefined>;
export type QueryInput<N extends RouteName> = InputPart<N, 'query', Record<string, never>>;
