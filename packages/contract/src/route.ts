import { z } from 'zod';
import { QueryId, Uuid } from './common';
import type { Access } from './roles';

export interface Route {
  readonly method: 'get' | 'post' | 'put' | 'delete';
  /** Below /api/v1, in Express form. */
  readonly path: string;
  readonly summary: string;
  readonly access: Access;
  readonly params?: z.ZodObject;
  readonly query?: z.ZodObject;
  readonly body?: z.ZodType;
  readonly response?: z.ZodType;
  /** The body or the answer is no JSON. */
  readonly raw?: boolean;
  /** Whoever is signed in has to show once more who they are, unless they did so lately. */
  readonly confirmed?: boolean;
  /** Largest body in bytes; 1 MiB when not said. */
  readonly limit?: number;
}

export const byId = z.object({ id: QueryId });
export const byUuid = z.object({ id: Uuid });
export const route = <R extends Route>(r: R): R => r;
/** Body limit of routes that carry lists of items. */
export const large = 32 << 20;
