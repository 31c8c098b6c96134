import express, { type NextFunction, type Request, type Response, type Router } from 'express';
import { routes, type Answered, type Body, type Params, type Query, type Route, type RouteName } from '@lithodex/contract';
import type { z } from 'zod';
import type { Base } from '../base';
import { ApiError } from '../errors';
import { actorOf, checkAccess, type Actor } from './access';
import { confirmedForMs } from './confirmed';
import { refusals } from './refusals';

export interface Call<N extends RouteName> {
  readonly params: Params<N>;
  readonly query: Query<N>;
  readonly body: Body<N>;
  readonly actor: Actor;
  readonly req: Request;
  readonly res: Response;
}

/** One handler for every route of the contract. A raw route answers by itself. */
export type Handlers = { [N in RouteName]: (call: Call<N>) => Promise<Answered<N>> };

function parse(schema: z.ZodType | undefined, value: unknown, where: string): unknown {
  if (!schema) return {};
  if (!isWellFormed(value))
    throw new ApiError('INVALID', [{ at: where }], 'The request holds text that is not well formed. Nothing was changed.');
  const result = schema.safeParse(value);
  if (result.success) return result.data;
  const issues = result.error.issues.slice(0, 20).map((i) => ({ at: [where, ...i.path].join('.'), message: i.message }));
  throw new ApiError(
    'INVALID',
    issues,
    `The request is not valid: ${issues[0]?.at ?? where}: ${issues[0]?.message ?? ''}. Nothing was changed.`,
  );
}

/** Whether all text in a value is Unicode: half a character can be neither kept nor compared. */
function isWellFormed(value: unknown): boolean {
  if (typeof value === 'string') return value.isWellFormed();
  if (typeof value !== 'object' || value === null) return true;
  return Array.isArray(value)
    ? value.every(isWellFormed)
    : Object.entries(value).every(([key, v]) => key.isWellFormed() && isWellFormed(v));
}

/** A body has to arrive within this time; a large one within more; one that is streamed may pause for as long. */
const bodyMs = 60_000;
const largeBodyMs = 300_000;

function hurry(route: Route): express.RequestHandler {
  return (req, _res, next) => {
    const late = () => {
      req.destroy(new Error('the body did not arrive in time'));
    };
    if (route.raw) req.setTimeout(bodyMs * 2, late);
    else {
      const timer = setTimeout(late, route.limit ? largeBodyMs : bodyMs);
      req.once('close', () => {
        clearTimeout(timer);
      });
      req.once('end', () => {
        clearTimeout(timer);
      });
    }
    next();
  };
}

/** Binds every route of the contract to its handler: access is checked first, then the input, then the handler runs. */
export function bindRoutes(deps: Base, handlers: Handlers, limiters: Partial<Record<RouteName, express.RequestHandler>>): Router {
  const router = express.Router();
  for (const [name, route] of Object.entries<Route>(routes) as [RouteName, Route][]) {
    const noteRefusal = refusals(deps, route);
    const guard = async (req: Request, res: Response, next: NextFunction) => {
      const actor = await deps.answers.follow(actorOf(deps.db, req));
      res.locals['actor'] = actor;
      checkAccess(route.access, actor, req);
      if (route.confirmed && actor?.by === 'session' && Date.now() - (req.session.confirmedAt ?? 0) > confirmedForMs)
        throw new ApiError('CONFIRM_FIRST');
      if (!route.raw) res.set('Cache-Control', 'no-store');
      next();
    };
    const json = express.json({ limit: route.limit ?? 1 << 20, strict: false });
    const run = async (req: Request, res: Response) => {
      const call = {
        params: parse(route.params, req.params, 'path'),
        query: parse(route.query, req.query, 'query'),
        body: route.body ? parse(route.body, req.body, 'body') : undefined,
        actor: res.locals['actor'] as Actor,
        req,
        res,
      };
      const handle = handlers[name] as (call: unknown) => Promise<unknown>;
      const answer = await deps.answers.follow(handle(call));
      if (!route.raw) res.json(answer ?? {});
    };
    const limiter = limiters[name];
    const slow = route.method === 'get' ? [] : [hurry(route)];
    router[route.method](route.path, ...(limiter ? [limiter] : []), guard, ...slow, ...(route.raw ? [] : [json]), run, noteRefusal);
  }
  return router;
}
