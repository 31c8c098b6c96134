import { z } from 'zod';
import { files } from './files';
import { machine } from './machine';

/** All kinds of workload, by name. */
export const kinds = { files, machine } as const;
export type KindName = keyof typeof kinds;
export const kindNames = Object.keys(kinds) as [KindName, ...KindName[]];
export const KindName = z.enum(kindNames);

/** Where a task reads. */
export const From = z.discriminatedUnion('kind', [files.from, machine.from]);
export type From = z.infer<typeof From>;
export type FromOf<K extends KindName> = Extract<From, { kind: K }>;

/** Where a restore writes. */
export const To = z.discriminatedUnion('kind', [files.to, machine.to]);
export type To = z.infer<typeof To>;
export type ToOf<K extends KindName> = Extract<To, { kind: K }>;
