import type { Connector } from '../connector';
import { captureShare } from './capture-share';
import { sharesOf } from './found-shares';
import { restoreShare } from './restore-share';
import { surveyShare } from './survey-share';
import { testShares } from './test-shares';

/** Shares of a file server that speaks SMB. */
export const shareConnector: Connector<'share'> = {
  system: {
    test: ({ server }) => testShares(server),
    discover: ({ server }) => sharesOf(server),
  },
  capture: captureShare,
  survey: surveyShare,
  restore: restoreShare,
};
