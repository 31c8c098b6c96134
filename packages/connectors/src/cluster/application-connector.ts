import type { Connector } from '../connector';
import { captureApplication } from './capture-application';
import { applicationsOf } from './found-applications';
import { restoreApplication } from './restore-application';
import { surveyApplication } from './survey-application';
import { testCluster } from './test-cluster';

/** Applications of a container cluster that speaks the ordinary API. */
export const applicationConnector: Connector<'application'> = {
  system: {
    test: ({ server }) => testCluster(server),
    discover: ({ server }) => applicationsOf(server),
  },
  capture: captureApplication,
  survey: surveyApplication,
  restore: restoreApplication,
};
