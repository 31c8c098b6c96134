import type { FoundMatter } from '@lithodex/contract';
import type { Deps } from '../deps';
import { connectionMatters } from './system-matters';

/** Where the connection of an office tenant is mended. */
export const tenantLink = (sourceId: number): FoundMatter['action'] => ({
  label: 'Open the connection',
  link: `/estate/tenants/${sourceId}`,
  query: {},
});

/** Causes of failed runs that are mended at the connection of the tenant. */
export const tenantCauses: readonly string[] = ['TENANT_REFUSED', 'TENANT_AWAY'];

/** Tenants that can't be read. */
export const tenantMatters = (deps: Deps): Promise<FoundMatter[]> => connectionMatters(deps, 'tenant', tenantLink);
