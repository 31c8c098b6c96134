import { z } from 'zod';

export const roles = ['administrator', 'operator', 'clerk', 'auditor'] as const;
export const Role = z.enum(roles);
export type Role = z.infer<typeof Role>;

/** Who may call a route: roles, everyone signed in or not, a mover with its token, or somebody of the estate who signed in for themselves only. */
export type Access = readonly Role[] | 'anyone' | 'mover' | 'asker';

/** The groups the route table uses, so that each reads as a sentence. */
export const everyRole: readonly Role[] = roles;
export const readers: readonly Role[] = ['administrator', 'operator', 'auditor'];
/** All who may leave something behind, be it only for themselves. */
export const doers: readonly Role[] = ['administrator', 'operator', 'clerk'];
export const runners: readonly Role[] = ['administrator', 'operator'];
export const restorers: readonly Role[] = ['administrator', 'clerk'];
export const keepers: readonly Role[] = ['administrator'];
