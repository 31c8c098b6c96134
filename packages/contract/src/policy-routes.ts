import { z } from 'zod';
import * as c from './common';
import * as people from './people';
import * as policy from './policy';
import { keepers, readers, runners } from './roles';
import { byId, route } from './route';
import * as runs from './runs';
import * as storage from './storage';

/** What is protected, when and for how long. */
export const policyRoutes = {
  listPolicies: route({
    method: 'get',
    path: '/policies',
    summary: 'All policies',
    access: readers,
    query: c.ListQuery,
    response: c.page(policy.Policy),
  }),
  getPolicy: route({
    method: 'get',
    path: '/policies/:id',
    summary: 'One policy',
    access: readers,
    params: byId,
    response: policy.PolicyDetail,
  }),
  policyVersions: route({
    method: 'get',
    path: '/policies/:id/versions',
    summary: 'What a policy said when, newest first',
    access: readers,
    params: byId,
    response: z.object({ rows: z.array(policy.PolicyVersion) }),
  }),
  policyFile: route({
    method: 'get',
    path: '/policies/:id/yaml',
    summary: 'A policy as YAML, with names where it refers to something',
    access: readers,
    params: byId,
    raw: true,
  }),
  readPolicy: route({
    method: 'post',
    path: '/policies/read',
    summary: 'The draft that a YAML text says, checked as if it were put in force',
    access: keepers,
    body: z.object({ text: z.string().max(200_000) }),
    response: z.object({ body: policy.PolicyBody }),
  }),
  policyStart: route({
    method: 'get',
    path: '/policy-start',
    summary: 'What new policies start from',
    access: readers,
    response: policy.PolicyStart,
  }),
  setPolicyStart: route({
    method: 'put',
    path: '/policy-start',
    summary: 'Let new policies start from this one, or from nothing in particular',
    access: keepers,
    body: z.object({ policyId: c.Id.nullable() }),
    response: policy.PolicyStart,
  }),
  addPolicy: route({
    method: 'post',
    path: '/policies',
    summary: 'Put a new policy in force',
    access: keepers,
    body: policy.PolicyBody,
    response: z.object({ id: c.Id }),
  }),
  changePolicy: route({
    method: 'put',
    path: '/policies/:id',
    summary: 'Put a changed policy in force; where points would go sooner than promised, once a second person agrees',
    access: keepers,
    params: byId,
    body: policy.PolicyBody,
    response: people.DoneOrAsked,
  }),
  removePolicy: route({
    method: 'delete',
    path: '/policies/:id',
    summary: 'End a policy; its points stay until they expire',
    access: keepers,
    params: byId,
    response: c.Empty,
  }),
  consequences: route({
    method: 'post',
    path: '/policies/consequences',
    summary: 'What a draft would do',
    access: readers,
    body: z.object({ id: c.Id.nullable(), body: policy.PolicyBody }),
    response: policy.Consequences,
  }),
  policyMeasures: route({
    method: 'post',
    path: '/policies/measures',
    summary: 'What the simulation of a draft starts from: points, sizes and rates of change, by target',
    access: readers,
    body: z.object({ id: c.Id.nullable(), body: policy.PolicyBody }),
    response: storage.PolicyMeasures,
  }),
  runPolicy: route({
    method: 'post',
    path: '/policies/:id/run',
    summary: 'Run a rule of a policy now, its first where none is named; a trial looks at all of them and moves nothing',
    access: runners,
    params: byId,
    body: z.object({ trial: z.boolean().default(false), rule: policy.PolicyRule.shape.no.optional() }),
    response: runs.Started,
  }),
} as const;
