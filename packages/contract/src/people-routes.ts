import { z } from 'zod';
import * as c from './common';
import * as people from './people';
import { keepers, readers } from './roles';
import { byId, route, type Route } from './route';

/** Who may sign in, what waits for a second person, and who did what. */
export const peopleRoutes = {
  listPeople: route({
    method: 'get',
    path: '/people',
    summary: 'Who may sign in',
    access: ['administrator', 'auditor'],
    response: z.object({ rows: z.array(people.Person) }),
  }),
  addPerson: route({
    method: 'post',
    path: '/people',
    summary: 'Add a person',
    access: keepers,
    body: people.NewPerson,
    response: z.object({ id: c.Id }),
  }),
  changePerson: route({
    method: 'put',
    path: '/people/:id',
    summary: 'Change what a person is called and may act for; another role takes a second person',
    access: keepers,
    params: byId,
    body: people.PersonChange,
    response: people.DoneOrAsked,
  }),
  removePerson: route({
    method: 'delete',
    path: '/people/:id',
    summary: 'Bar a person: their sessions, tokens and open pages end at once',
    access: keepers,
    params: byId,
    response: c.Empty,
  }),
  listTokens: route({
    method: 'get',
    path: '/tokens',
    summary: 'API tokens, without their secrets',
    access: ['administrator', 'auditor'],
    response: z.object({ rows: z.array(people.Token) }),
  }),
  addToken: route({
    method: 'post',
    path: '/tokens',
    summary: 'Issue an API token; it is shown once',
    access: keepers,
    body: people.NewToken,
    response: people.IssuedToken,
  }),
  rotateToken: route({
    method: 'post',
    path: '/tokens/:id/rotate',
    summary: 'Issue an API token anew: the old secret is good no more; the new one is shown once',
    access: keepers,
    params: byId,
    body: people.NewToken.pick({ days: true }),
    response: people.IssuedToken,
  }),
  removeToken: route({
    method: 'delete',
    path: '/tokens/:id',
    summary: 'Withdraw an API token',
    access: keepers,
    params: byId,
    response: c.Empty,
  }),
  listRequests: route({
    method: 'get',
    path: '/requests',
    summary: 'What waits for a second person, and what was decided lately',
    access: readers,
    response: z.object({ rows: z.array(people.Request) }),
  }),
  agreeRequest: route({
    method: 'post',
    path: '/requests/:id/agree',
    summary: 'Agree as the second person: it is done at once',
    access: keepers,
    params: byId,
    response: c.Empty,
  }),
  refuseRequest: route({
    method: 'post',
    path: '/requests/:id/refuse',
    summary: 'Refuse a request, or withdraw an own one',
    access: keepers,
    params: byId,
    response: c.Empty,
  }),
  audit: route({
    method: 'get',
    path: '/audit',
    summary: 'The audit trail, newest first',
    access: ['administrator', 'auditor'],
    query: c.ListQuery,
    response: c.page(people.AuditRow),
  }),
  checkAudit: route({
    method: 'get',
    path: '/audit/check',
    summary: 'Check that no row of the audit trail was changed or removed',
    access: ['administrator', 'auditor'],
    response: people.AuditCheck,
  }),
} as const satisfies Record<string, Route>;
