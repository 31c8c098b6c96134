import { changeRoutes } from './change-routes';
import { drillRoutes } from './drills';
import { scanRoutes } from './scans';
import { sensitiveRoutes } from './sensitive';
import { strikeRoutes } from './strike';

/** What can be trusted: unusual change, what scans find, sensitive data, drills, what would be lost. */
export const trustRoutes = { ...changeRoutes, ...scanRoutes, ...sensitiveRoutes, ...drillRoutes, ...strikeRoutes } as const;
