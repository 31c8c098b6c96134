import { z } from 'zod';
import { application, ApplicationAddress, ApplicationFacts, applicationOfPoint, ApplicationPlace, ApplicationPoint } from './application';
import { bucket, BucketAddress, BucketFacts, bucketOfPoint, BucketPlace, BucketPoint } from './bucket';
import {
  database,
  DatabaseAddress,
  DatabaseFacts,
  DatabaseLogPoint,
  DatabasePlace,
  ScratchPlace,
  DatabasePoint,
  databaseOfPoint,
  DatabaseUntil,
} from './database';
import { CloudPlace, OverPlace } from './cloud';
import { files } from './files';
import { FileServerAddress, FileServerPlace, share, ShareFacts, shareOfPoint, SharePoint } from './file-server';
import { InsidePlace, RunningPlace, machine, machineOfPoint, MachinePlace, type MachinePoint } from './machine';
import { DisksPlace, ServerPoint } from './server';
import { UnitPlace } from './unit';
import { SharePlace } from './share';
import { MemberPlace, memberOfPoint, tenant, TenantAddress, TenantFacts, TenantPoint } from './tenant';
import { Name } from './values';

/** All kinds of workload, by name. */
export const kinds = { files, machine, database, tenant, bucket, application, share } as const;
export type KindName = keyof typeof kinds;
export const kindNames = Object.keys(kinds) as [KindName, ...KindName[]];
export const KindName = z.enum(kindNames);

/** Where a task reads. */
export const From = z.discriminatedUnion('kind', [
  files.from,
  machine.from,
  database.from,
  tenant.from,
  bucket.from,
  application.from,
  share.from,
]);
export type From = z.infer<typeof From>;
export type FromOf<K extends KindName> = Extract<From, { kind: K }>;

/** Where a restore writes. */
export const To = z.discriminatedUnion('kind', [files.to, machine.to, database.to, tenant.to, bucket.to, application.to, share.to]);
export type To = z.infer<typeof To>;
export type ToOf<K extends KindName> = Extract<To, { kind: K }>;

/** Where people send a restore, beside the original place, folders and downloads. */
export const placesOfKinds = [
  MachinePlace,
  CloudPlace,
  OverPlace,
  InsidePlace,
  RunningPlace,
  DatabasePlace,
  ScratchPlace,
  SharePlace,
  MemberPlace,
  BucketPlace,
  ApplicationPlace,
  FileServerPlace,
  DisksPlace,
  UnitPlace,
] as const;

/** The moment that is wanted of a kind that writes a log. */
export const Until = DatabaseUntil;

/** How a system is reached, without what opens it. */
export const SystemAddress = z.discriminatedUnion('kind', [
  DatabaseAddress,
  TenantAddress,
  BucketAddress,
  ApplicationAddress,
  FileServerAddress,
]);
export type SystemAddress = z.infer<typeof SystemAddress>;
/** Kinds whose workloads are found in a system that is connected. */
export type SystemKind = SystemAddress['kind'];

/** What is known of a workload, beyond its name and where it is. */
export const WorkloadFacts = z.discriminatedUnion('kind', [DatabaseFacts, TenantFacts, BucketFacts, ApplicationFacts, ShareFacts]);
export type WorkloadFacts = z.infer<typeof WorkloadFacts>;

/** What a point says of its workload. */
export const PointFacts = z.discriminatedUnion('kind', [
  DatabasePoint,
  DatabaseLogPoint,
  TenantPoint,
  BucketPoint,
  ApplicationPoint,
  SharePoint,
  ServerPoint,
]);
export type PointFacts = z.infer<typeof PointFacts>;

/** A workload as it was found in a system; `id` is what the system calls it. */
export const FoundWorkload = z.object({ id: z.string().min(1).max(330), name: Name, facts: WorkloadFacts });
export type FoundWorkload = z.infer<typeof FoundWorkload>;

/** A workload as a point alone tells of it. */
export interface WorkloadOfPoint {
  readonly sourceKind: 'files' | 'platform' | SystemKind;
  /** What is known of it, where it is found in a system; `outer_id`: what the system calls it. */
  readonly known: { readonly kind: KindName; readonly facts: object; readonly outer_id?: string } | null;
}

/** What kind of workload a point is of, with what is known of one whose system is not connected. */
export function workloadOfPoint({ machine: own, facts }: { machine: MachinePoint | null; facts: PointFacts | null }): WorkloadOfPoint {
  if (own) return { sourceKind: 'platform', known: { kind: 'machine', facts: machineOfPoint(own) } };
  if (!facts || facts.kind === 'server') return { sourceKind: 'files', known: null };
  if (facts.kind === 'tenant') return { sourceKind: 'tenant', known: memberOfPoint(facts) };
  if (facts.kind === 'bucket') return { sourceKind: 'bucket', known: bucketOfPoint(facts) };
  if (facts.kind === 'share') return { sourceKind: 'share', known: shareOfPoint(facts) };
  if (facts.kind === 'application') return { sourceKind: 'application', known: applicationOfPoint(facts) };
  return { sourceKind: 'database', known: databaseOfPoint(facts) };
}
