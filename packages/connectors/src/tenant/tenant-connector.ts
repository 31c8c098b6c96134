import type { Connector } from '../connector';
import { captureMember } from './capture-member';
import { membersOf } from './people';
import { restoreMember } from './restore-member';
import { surveyMember } from './survey-member';
import { testTenant } from './test-tenant';

/** People, sites and rooms of an office tenant, by the open protocols its services speak. */
export const tenantConnector: Connector<'tenant'> = {
  system: {
    test: ({ server }) => testTenant(server),
    discover: ({ server }) => membersOf(server),
  },
  capture: captureMember,
  survey: surveyMember,
  restore: restoreMember,
};
