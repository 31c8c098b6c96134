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
import { isDatabaseAway, isUnfit } from './db/open';
import { isTaken } from './db/taken';
import type { Deps } from './deps';
import { ApiError } from './errors';
import { bindRoutes, type Handlers } from './http/bind-routes';
import { docsPage } from './http/docs-page';
import { SessionStore } from './http/session-store';
import { estateHandlers } from './estate/handlers';
import { targetHandlers } from './targets/handlers';
import { moverHandlers } from './movers/handlers';
import { knownMoverHandlers } from './movers/known-movers';
import { noticeHandlers } from './notices/handlers';
import { auditHandlers } from './audit/handlers';
import { peopleHandlers } from './people/handlers';
import { accountHandlers } from './sign-in/account-handlers';
import { sessionHandlers } from './sign-in/session-handlers';
import { signInSettingsHandlers } from './sign-in/settings-handlers';
import { tokenHandlers } from './people/token-handlers';
import { requestHandlers } from './people/request-handlers';
import { planHandlers } from './plan/handlers';
import { platformHandlers } from './platforms/handlers';
import { systemHandlers } from './systems/handlers';
import { insideHandlers } from './platforms/inside';
import { policyHandlers } from './policies/handlers';
import { recoverHandlers } from './recover/handlers';
import { reportHandlers } from './reports/handlers';
import { besideHandlers } from './recover/beside-tables';
import { restoreHandlers } from './recover/restore-handlers';
import { runHandlers } from './runs/handlers';
import { savedFilterHandlers } from './runs/saved-filters';
import { settingsHandlers } from './settings/handlers';
import { watchHandlers } from './watch/handlers';

export function allHandlers(deps: Deps): Handlers {
  return {
    ...sessionHandlers(deps),
    ...accountHandlers(deps),
    ...signInSettingsHandlers(deps),
    ...peopleHandlers(deps),
    ...tokenHandlers(deps),
    ...auditHandlers(deps),
    ...requestHandlers(deps),
    ...watchHandlers(deps),
    ...estateHandlers(deps),
    ...platformHandlers(deps),
    ...systemHandlers(deps),
    ...insideHandlers(deps),
    ...targetHandlers(deps),
    ...settingsHandlers(deps),
    ...policyHandlers(deps),
    ...planHandlers(deps),
    ...runHandlers(deps),
    ...savedFilterHandlers(deps),
    ...reportHandlers(deps),
    ...noticeHandlers(deps),
    ...recoverHandlers(deps),
    ...besideHandlers(deps),
    ...restoreHandlers(deps),
    ...moverHandlers(deps),
    ...knownMoverHandlers(deps),
  };
}

const nonceOf = (res: unknown) => (res as Response).locals['nonce'] as string;
const triesPerQuarterHour = 20;

const fewTries = () =>
  rateLimit({
    windowMs: 900_000,
    limit: triesPerQuarterHour,
    skipSuccessfulRequests: true,
    standardHeaders: 'draft-8',
    legacyHeaders: false,
    handler: (_req, _res, next) => {
      next(new ApiError('TOO_MANY_TRIES'));
    },
  });

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
      strictTransportSecurity: false,
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
      cookie: { httpOnly: true, sameSite: 'strict', maxAge: 12 * 3_600_000 },
    }),
    bindRoutes(deps, allHandlers(deps), { joinMover: fewTries(), resetPassword: fewTries() }),
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
