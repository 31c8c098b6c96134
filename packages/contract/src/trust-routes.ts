import { changeRoutes } from './change-routes';
import { drillRoutes } from './drills';
import { scanRoutes } from './scans';
import { sensitiveRoutes } from './sensitive';

/** What can be trusted: unusual change, what scans find, sensitive data, drills. */
export const trustRoutes = { ...changeRoutes, ...scanRoutes, ...sensitiveRoutes, ...drillRoutes } as const;
