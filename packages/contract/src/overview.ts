import { Authority, ServiceUrl } from '@lithodex/kinds';
import { z } from 'zod';
import { Bytes, Count, Empty, Id, Instant, Name } from './common';
import { keepers, readers } from './roles';
import { byId, route, type Route } from './route';

/** Another installation that is looked at from here. */
export const InstallationBody = z.object({
  name: Name,
  /** Its address, as a browser has it. */
  url: ServiceUrl,
  /** A token of an auditor there; null for the one that is kept. */
  token: z.string().trim().min(1).max(300).nullable(),
  /** The certificate authority that its certificate is checked with; null for those that the system trusts. */
  authority: Authority,
});
export type InstallationBody = z.infer<typeof InstallationBody>;

/** What is worth knowing of an installation at a glance. */
export const InstallationState = z.object({
  /** Of all workloads, those that have a point. */
  protected: Count,
  all: Count,
  oldestNewest: z.object({ moment: Instant, workload: z.string(), late: z.boolean() }).nullable(),
  storedBytes: Bytes,
  matters: z.object({ fault: Count, warning: Count, absent: Count }),
  /** Worst first. */
  worst: z.array(z.object({ level: z.enum(['fault', 'warning', 'absent']), title: z.string().max(500), since: Instant })).max(5),
  /** `full`: when it is full, as far as that can be told. */
  targets: z
    .array(z.object({ name: z.string().max(200), used: Bytes.nullable(), free: Bytes.nullable(), full: Instant.nullable() }))
    .max(100),
});
export type InstallationState = z.infer<typeof InstallationState>;

export const InstallationRow = z.object({
  /** null for the one that is asked. */
  id: Id.nullable(),
  name: z.string(),
  url: z.string(),
  authority: z.string().nullable(),
  /** What it said last; null while it never did. */
  state: InstallationState.nullable(),
  /** When that was. */
  at: Instant.nullable(),
  /** Why it does not answer now; '' when it does. */
  trouble: z.string(),
  /** How far its clock is ahead of the one here, ms. */
  clockAhead: z.number(),
});
export type InstallationRow = z.infer<typeof InstallationRow>;

/** Several installations in one view. */
export const overviewRoutes = {
  overview: route({
    method: 'get',
    path: '/installations',
    summary: 'This installation and those that are looked at from here',
    access: readers,
    response: z.object({ rows: z.array(InstallationRow) }),
  }),
  addInstallation: route({
    method: 'post',
    path: '/installations',
    summary: 'Look at another installation from here',
    access: keepers,
    body: InstallationBody,
    response: z.object({ id: Id }),
  }),
  changeInstallation: route({
    method: 'put',
    path: '/installations/:id',
    summary: 'Change how another installation is reached',
    access: keepers,
    params: byId,
    body: InstallationBody,
    response: Empty,
  }),
  removeInstallation: route({
    method: 'delete',
    path: '/installations/:id',
    summary: 'Look at it no more',
    access: keepers,
    params: byId,
    response: Empty,
  }),
} satisfies Record<string, Route>;
