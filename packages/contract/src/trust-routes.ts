import { changeRoutes } from './change-routes';
import { scanRoutes } from './scans';
import { sensitiveRoutes } from './sensitive';

/** What can be trusted: unusual change, what scans find, sensitive data. */
export const trustRoutes = { ...changeRoutes, ...scanRoutes, ...sensitiveRoutes } as const;
