import { z } from 'zod';
import type { Kind } from './kind';
import { Authority, Bytes, Count, Id, Name, ServiceUrl } from './values';

/** Names of namespaces: labels of DNS (RFC 1123). */
export const NamespaceName = z.string().regex(/^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$/, 'small letters, digits and -');

const Text = z.string().max(1000);
/** A change that resources get on their way; as in core. */
export const Rewrite = z.object({
  kind: z.string().max(200).default(''),
  path: z.string().max(400).default(''),
  from: Text.default(''),
  to: Text,
});
export const Rewrites = z.array(Rewrite).max(100);

/** Rewrites that are defined ahead, for what comes to a cluster. */
export const RewriteSet = z.object({ name: Name, rewrites: Rewrites });
export type RewriteSet = z.infer<typeof RewriteSet>;

/** Where a container cluster is: without what opens it. */
export const ApplicationAddress = z.object({
  kind: z.literal('application'),
  endpoint: ServiceUrl,
  /** Only these, where not all are meant; none for all but the cluster's own. */
  namespaces: z.array(NamespaceName).max(1000).default([]),
  /** What the helpers that read and fill volumes are made of: it has to hold find and tar of GNU. */
  image: z
    .string()
    .trim()
    .regex(/^[\w./:@-]{1,200}$/, 'a name of an image')
    .default('debian:stable-slim'),
  /** Names that lead to this cluster only, as hosts or what these end in. */
  domains: z.array(z.string().trim().min(2).max(200)).max(50).default([]),
  /** For what comes to this cluster from others. */
  rewrites: z.array(RewriteSet).max(20).default([]),
  /** The certificate authority that the certificate is checked with; null for those the mover's system trusts. */
  authority: Authority,
});
export type ApplicationAddress = z.infer<typeof ApplicationAddress>;

/** A cluster as movers need it; `id`: the source it is kept as, null while it is not kept yet. */
export const Cluster = ApplicationAddress.extend({ id: Id.nullable(), token: z.string().min(1).max(8000) });
export type Cluster = z.infer<typeof Cluster>;

/** Names of claims of volumes (subdomains of DNS). */
export const ClaimName = z.string().regex(/^[a-z0-9]([a-z0-9.-]{0,251}[a-z0-9])?$/, 'small letters, digits, - and .');

const Labels = z.record(z.string().max(320), z.string().max(200));

/** What is known of an application without reading it. */
export const ApplicationFacts = z.object({
  kind: z.literal('application'),
  namespace: NamespaceName,
  labels: Labels,
  /** What its volumes were asked to be, together. */
  bytes: Bytes,
  claims: Count,
  /** Claims of a class that no snapshot is taken of: they are read while they are used. */
  unfrozen: Count,
  /** Claims that others took the place of when volumes were brought back beside them. */
  unused: z
    .array(z.object({ claim: z.string().max(260), /** The one that did; '' where it can't be told. */ now: z.string().max(260) }))
    .max(200)
    .default([]),
  /** Why it can not be looked into; '' where it can. */
  trouble: z.string().max(1000),
});
export type ApplicationFacts = z.infer<typeof ApplicationFacts>;

/** A volume of a point. */
export const PointVolume = z.object({
  claim: z.string().max(260),
  class: z.string().max(260),
  mode: z.enum(['Filesystem', 'Block']),
  /** What it was asked to be. */
  room: Bytes,
  items: Count,
  bytes: Bytes,
  /** Read from a snapshot rather than while it was used. */
  frozen: z.boolean(),
});
export type PointVolume = z.infer<typeof PointVolume>;

/** What is only where an application comes from. */
export const PlaceOfPoint = z.object({
  endpoint: z.string().max(400),
  hosts: z.array(z.string().max(300)).max(2000),
  addresses: z.array(z.string().max(60)).max(5000),
  nodes: z.array(z.string().max(300)).max(2000),
  classes: z.array(z.string().max(300)).max(500),
});
export type PlaceOfPoint = z.infer<typeof PlaceOfPoint>;

/** What a point of an application says of it. */
export const ApplicationPoint = z.object({
  kind: z.literal('application'),
  namespace: NamespaceName,
  /** Version of the API that it was read by. */
  version: z.string().max(60),
  resources: Count,
  /** Of what kind, with how many each. */
  kinds: z.record(z.string().max(300), Count),
  volumes: z.array(PointVolume).max(5000),
  /** Pods that were brought to rest by a command of theirs, and those whose command failed. */
  quiet: z.object({ pods: Count, failed: Count }),
  place: PlaceOfPoint,
});
export type ApplicationPoint = z.infer<typeof ApplicationPoint>;

/** An application, with what opens its cluster. `namespace` is '' while it is asked which there are. */
export const ApplicationFrom = z.object({
  kind: z.literal('application'),
  server: Cluster,
  namespace: z.union([z.literal(''), NamespaceName]),
});
export type ApplicationFrom = z.infer<typeof ApplicationFrom>;

/** To another cluster or namespace, changed on the way. */
export const ApplicationPlace = z.object({
  to: z.literal('application'),
  systemId: Id,
  namespace: NamespaceName,
  rewrites: Rewrites.default([]),
  /** Whether its volumes come as well. */
  volumes: z.boolean().default(true),
  /** It is started once everything is in place; otherwise what runs in it is made with no pods. */
  start: z.boolean().default(true),
  /** How long its start may take, s. */
  patience: z.int().min(10).max(3600).default(300),
});

export const ApplicationDestination = z.object({
  namespace: NamespaceName,
  rewrites: Rewrites,
  volumes: z.boolean(),
  start: z.boolean(),
  patience: z.int(),
  /** What is there is left as it is, or made as it was: volumes then come beside, and the application is switched to them. */
  exists: z.enum(['leave', 'replace']),
  /** What is put behind the names of volumes that come beside what exists. */
  stamp: z.string().regex(/^[a-z0-9-]{1,40}$/),
});
export type ApplicationDestination = z.infer<typeof ApplicationDestination>;

export const ApplicationTo = z.object({ kind: z.literal('application'), server: Cluster, destination: ApplicationDestination });
export type ApplicationTo = z.infer<typeof ApplicationTo>;

const Path = z.array(z.string().max(400)).max(60);
const Shown = z.string().max(2000);
/** What would come of bringing an application to a place. */
export const ApplicationLook = z.object({
  /** The cluster answers; '' or why it doesn't. */
  trouble: z.string().max(1000),
  /** The namespace is there already. */
  there: z.boolean(),
  /** How many resources there are at each step, and bytes of its volumes. */
  steps: z.array(z.object({ step: z.string().max(20), resources: Count, rewritten: Count, exists: Count })),
  volumes: z.array(z.object({ claim: z.string(), bytes: Bytes, class: z.string(), exists: z.boolean(), goesTo: z.string() })),
  /** Values that rewrites change; of secrets not what they are. */
  changes: z.array(z.object({ kind: z.string(), name: z.string(), path: Path, before: Shown, after: Shown, rewrite: Count })).max(2000),
  /** Values that would still lead to the old place. */
  pointing: z.array(z.object({ kind: z.string(), name: z.string(), path: Path, to: z.string(), names: z.string().max(300) })).max(500),
  /** Kinds that the cluster does not know, in the version the point has. */
  unknownKinds: z.array(z.string().max(300)).max(200),
  /** Classes of volumes that are not there. */
  missingClasses: z.array(z.string().max(300)).max(200),
  /** What the account may not do there, and what for. */
  missingRights: z.array(z.string().max(300)).max(200),
});
export type ApplicationLook = z.infer<typeof ApplicationLook>;

/** A resource as a point has it and as it is now, as text. */
export const ResourcePair = z.object({
  then: z.string().max(1 << 21),
  /** null where there is none now. */
  now: z
    .string()
    .max(1 << 21)
    .nullable(),
});
export type ResourcePair = z.infer<typeof ResourcePair>;

/** The application that a point is of, as the point tells. */
export function applicationOfPoint({ namespace, volumes }: ApplicationPoint): {
  kind: 'application';
  facts: ApplicationFacts;
  outer_id: string;
} {
  const facts: ApplicationFacts = {
    kind: 'application',
    namespace,
    labels: {},
    bytes: volumes.reduce((sum, v) => sum + v.room, 0),
    claims: volumes.length,
    unfrozen: volumes.filter((v) => !v.frozen).length,
    unused: [],
    trouble: '',
  };
  return { kind: 'application', facts, outer_id: namespace };
}

export const application = {
  name: 'application',
  noun: 'application',
  group: 'Applications',
  changesIn: 'files',
  compares: false,
  opens: false,
  logs: false,
  from: ApplicationFrom,
  to: ApplicationTo,
} as const satisfies Kind;
