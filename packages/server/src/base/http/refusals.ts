import type { ErrorRequestHandler, Response } from 'express';
import type { Route } from '@lithodex/contract';
import { appendAudit } from '../audit/trail';
import { inTransaction } from '../db/open';
import type { Base } from '../base';
import { ApiError, type ApiErrorCode } from '../errors';
import type { Actor } from './access';

/** Refusals that say something about who asks. */
const telling: readonly ApiErrorCode[] = ['NOT_ALLOWED', 'OUTSIDE_REMIT', 'SECOND_PERSON', 'CSRF_MISSING'];
const minuteMs = 60_000;
/** So many are noted of one caller in a minute: a trail that can be filled hides what matters. */
const mostAMinute = 20;

/** Of each caller, when its minute began and how many refusals came in it. */
const seen = new Map<string, { from: number; count: number }>();

function isWorthNoting(key: string): boolean {
  const now = Date.now();
  const known = seen.get(key);
  if (!known || now - known.from > minuteMs) {
    if (seen.size > 10_000) seen.clear();
    seen.set(key, { from: now, count: 1 });
    return true;
  }
  return ++known.count <= mostAMinute;
}

/** Notes in the audit trail who was refused what, and passes the refusal on. */
export function refusals(deps: Base, route: Route): ErrorRequestHandler {
  return (error: unknown, req, res: Response, next) => {
    const actor = res.locals['actor'] as Actor | undefined;
    if (!(error instanceof ApiError) || !telling.includes(error.code) || !actor || !isWorthNoting(actor.key)) {
      next(error);
      return;
    }
    const entry = {
      actor: actor.name,
      action: 'access.refused',
      object: `${route.method} ${route.path}`,
      detail: `${error.code} ${Object.values(req.params).join(' ')}`.trim(),
    };
    inTransaction(deps.db, (trx) => appendAudit(trx, deps.clock.now(), entry)).then(
      () => {
        next(error);
      },
      () => {
        next(error);
      },
    );
  };
}
