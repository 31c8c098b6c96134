import { randomBytes } from 'node:crypto';
import { existsSync, readFileSync } from 'node:fs';
import path from 'node:path';
import compression from 'compression';
import express, { type Express, type NextFunction, type Request, type Response } from 'express';
import { rateLimit } from 'express-rate-limit';
import session from 'express-session';
import helmet from 'helmet';
import { pinoHttp } from 'pino-http';
import { openApiDocument } from '@lithodex/contract';
import { isDatabaseAway, isUnfit } from './base/db/open';
import { isTaken } from './base/db/taken';
import type { Deps } from './acts/deps';
import { ApiError } from './base/errors';
import { bindRoutes, type Handlers } from './base/http/bind-routes';
import { docsPage } from './base/http/docs-page';
import { SessionStore } from './base/http/session-store';
import { firstHandlers } from './places/first/first-handlers';
import { estateHandlers } from './places/estate/estate-handlers';
import { followHandlers } from './places/storage/follow-handlers';
import { targetHandlers } from './places/storage/target-handlers';
import { moverHandlers } from './places/movers/mover-handlers';
import { askingHandlers as askingMoverHandlers } from './places/movers/asking-handlers';
import { knownMoverHandlers } from './places/movers/known-movers';
import { unitHandlers } from './places/movers/unit-handlers';
import { noticeHandlers } from './places/watch/notice-handlers';
import { auditHandlers } from './places/trust/audit-handlers';
import { ruleHandlers } from './places/trust/rule-handlers';
import { sensitiveHandlers } from './places/trust/sensitive-handlers';
import { drillHandlers } from './places/trust/drill-handlers';
import { scanHandlers } from './places/trust/scan-handlers';
import { strikeHandlers } from './places/trust/strike-handlers';
import { drillReportHandlers } from './places/movers/drill-report-handlers';
import { scanReportHandlers } from './places/movers/scan-report-handlers';
import { changeHandlers } from './places/trust/change-handlers';
import { peopleHandlers } from './places/trust/people-handlers';
import { accountHandlers } from './places/trust/account-handlers';
import { sessionHandlers } from './places/trust/session-handlers';
import { signInSettingsHandlers } from './places/trust/sign-in-settings-handlers';
import { tokenHandlers } from './places/trust/token-handlers';
import { requestHandlers } from './places/trust/request-handlers';
import { planHandlers } from './places/runs/plan-handlers';
import { platformHandlers } from './places/estate/platform-handlers';
import { snapshotHandlers } from './places/estate/snapshot-handlers';
import { systemHandlers } from './places/estate/system-handlers';
import { insideHandlers } from './places/estate/inside-handlers';
import { policyHandlers } from './places/policies/policy-handlers';
import { recoverHandlers } from './places/recover/recover-handlers';
import { reportHandlers } from './places/watch/report-handlers';
import { applicationHandlers } from './places/recover/application-handlers';
import { besideHandlers } from './places/recover/beside-tables';
import { undoHandlers } from './places/recover/undo-handlers';
import { differenceHandlers } from './places/recover/difference-handlers';
import { attachHandlers } from './places/recover/attach-handlers';
import { shareHandlers } from './places/recover/share-handlers';
import { sequenceHandlers } from './places/recover/sequence-handlers';
import { standingHandlers } from './places/recover/standing-handlers';
import { runningHandlers } from './places/recover/running-handlers';
import { deskHandlers } from './places/recover/desk-handlers';
import { askingHandlers } from './places/recover/asking-handlers';
import { ownHandlers } from './places/recover/own-handlers';
import { scratchHandlers } from './places/recover/scratch-handlers';
import { restoreHandlers } from './places/recover/restore-handlers';
import { runHandlers } from './places/runs/run-handlers';
import { savedFilterHandlers } from './places/runs/saved-filters';
import { settingsHandlers } from './places/settings/settings-handlers';
import { overviewHandlers } from './places/watch/overview-handlers';
import { watchHandlers } from './places/watch/watch-handlers';

export function allHandlers(deps: Deps): Handlers {
  const watching = watchHandlers(deps);
  return {
    ...sessionHandlers(deps),
    ...firstHandlers(deps),
    ...accountHandlers(deps),
    ...signInSettingsHandlers(deps),
    ...peopleHandlers(deps),
    ...tokenHandlers(deps),
    ...auditHandlers(deps),
    ...changeHandlers(deps),
    ...scanHandlers(deps),
    ...drillHandlers(deps),
    ...strikeHandlers(deps),
    ...ruleHandlers(deps),
    ...sensitiveHandlers(deps),
    ...requestHandlers(deps),
    ...watching,
    ...overviewHandlers(deps, { ...watching, ...estateHandlers(deps), ...targetHandlers(deps) }),
    ...estateHandlers(deps),
    ...platformHandlers(deps),
    ...snapshotHandlers(deps),
    ...systemHandlers(deps),
    ...insideHandlers(deps),
    ...targetHandlers(deps),
    ...followHandlers(deps),
    ...settingsHandlers(deps),
    ...policyHandlers(deps),
    ...planHandlers(deps),
    ...runHandlers(deps),
    ...savedFilterHandlers(deps),
    ...reportHandlers(deps),
    ...noticeHandlers(deps),
    ...recoverHandlers(deps),
    ...applicationHandlers(deps),
    ...besideHandlers(deps),
    ...scratchHandlers(deps),
    ...deskHandlers(deps),
    ...askingHandlers(deps),
    ...ownHandlers(deps),
    ...attachHandlers(deps),
    ...runningHandlers(deps),
    ...sequenceHandlers(deps),
    ...standingHandlers(deps),
    ...shareHandlers(deps),
    ...differenceHandlers(deps),
    ...undoHandlers(deps),
    ...restoreHandlers(deps),
    ...moverHandlers(deps),
    ...scanReportHandlers(deps),
    ...drillReportHandlers(deps),
    ...knownMoverHandlers(deps),
    ...askingMoverHandlers(deps),
    ...unitHandlers(deps),
  };
}

const nonceOf = (res: unknown) => (res as Response).locals['nonce'] as string;
/** Stops an address that calls more often than `limit` times in `windowMs`. `failed`: only calls that were refused count. */
const limited = (windowMs: number, limit: number, failed: boolean) =>
  rateLimit({
    windowMs,
    limit,
    skipSuccessfulRequests: failed,
    standardHeaders: 'draft-8',
    legacyHeaders: false,
    handler: (_req, _res, next) => {
      next(new ApiError('TOO_MANY_TRIES'));
    },
  });
const fewTries = () => limited(900_000, 20, true);
/** Movers that wait ask again and again; somebody who floods is stopped. */
const oftenAsked = () => limited(60_000, 120, false);

export function createApp(deps: Deps): Express {
  const { config, db, log } = deps;
  const app = express();
  app.disable('x-powered-by');
  app.set('trust proxy', config.trustProxy);
  app.use(
    pinoHttp({
      logger: log,
      autoLogging: { ignore: (req) => (req.url ?? '').startsWith('/api/v1/mover') },
      redact: ['req.headers.authorization', 'req.headers.cookie', 'req.headers["x-lithodex-csrf"]', 'res.headers["set-cookie"]'],
      customLogLevel: (_q, res, error) => (error || res.statusCode >= 500 ? 'error' : 'debug'),
    }),
  );
  app.use((_req, res, next) => {
    res.locals['nonce'] = randomBytes(16).toString('base64');
    next();
  });
  app.use(
    helmet({
      contentSecurityPolicy: {
        directives: {
          'default-src': ["'self'"],
          'script-src': ["'self'", (_q, res) => `'nonce-${nonceOf(res)}'`],
          // the hash is that of an empty style element, which the charts fill rule by rule
          'style-src': ["'self'", "'sha256-47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU='", (_q, res) => `'nonce-${nonceOf(res)}'`],
          'style-src-attr': ["'unsafe-inline'"],
          'img-src': ["'self'", 'data:'],
          'font-src': ["'self'"],
          'frame-ancestors': ["'none'"],
          'upgrade-insecure-requests': null,
        },
      },
      // one year, for this host only: what else its name stands for is not ours to say
      strictTransportSecurity: config.tls ? { maxAge: 31_536_000, includeSubDomains: false } : false,
    }),
  );
  app.use(compression({ filter: (req, res) => !/events|download|stream/.test(req.path) && compression.filter(req, res) }));
  app.get('/api/openapi.json', (_req, res) => {
    res.json(openApiDocument());
  });
  app.get('/api/docs', (_req, res) => {
    res.type('html').send(docsPage(nonceOf(res)));
  });
  app.use(
    '/api/v1',
    session({
      name: 'lithodex',
      secret: config.sessionSecret,
      store: new SessionStore(db),
      resave: false,
      saveUninitialized: false,
      cookie: { httpOnly: true, sameSite: 'strict', secure: 'auto', maxAge: 12 * 3_600_000 },
    }),
    bindRoutes(deps, allHandlers(deps), {
      joinMover: fewTries(),
      resetPassword: fewTries(),
      makeFirstPerson: fewTries(),
      askToJoin: oftenAsked(),
    }),
    () => {
      throw new ApiError('NOT_FOUND', undefined, 'There is no such address in the API.');
    },
  );
  serveWeb(app, config.webDir);
  app.use((error: unknown, req: Request, res: Response, next: NextFunction) => {
    const known = toApiError(error);
    if (known.code === 'INTERNAL') log.error({ err: error, url: req.url }, 'unexpected error');
    if (res.headersSent) {
      next(error);
      return;
    }
    res.status(known.status).json({ code: known.code, message: known.message, details: known.details });
  });
  return app;
}

function serveWeb(app: Express, webDir: string): void {
  const file = path.join(webDir, 'index.html');
  if (!existsSync(file)) return;
  const index = readFileSync(file, 'utf8');
  app.use(express.static(webDir, { index: false, maxAge: '1y', immutable: true }));
  app.get('/{*path}', (req, res, next) => {
    if (req.path.startsWith('/api/')) {
      next(new ApiError('NOT_FOUND'));
      return;
    }
    res
      .set('Cache-Control', 'no-store')
      .type('html')
      .send(index.replaceAll('__CSP_NONCE__', nonceOf(res)));
  });
}

function toApiError(error: unknown): ApiError {
  if (error instanceof ApiError) return error;
  if (isDatabaseAway(error)) return new ApiError('DATABASE_AWAY');
  const { type, status } = error as { type?: string; status?: number };
  if (type === 'entity.too.large') return new ApiError('TOO_LARGE');
  if (status !== undefined && status >= 400 && status < 500) return new ApiError('INVALID', { type });
  if (error instanceof URIError) return new ApiError('INVALID');
  if (isTaken(error)) return new ApiError('NAME_TAKEN');
  if (isUnfit(error)) return new ApiError('INVALID', undefined, 'The request holds a value that can not be kept. Nothing was changed.');
  return new ApiError('INTERNAL');
}
