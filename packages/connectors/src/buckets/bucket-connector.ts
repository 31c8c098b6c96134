import type { Connector } from '../connector';
import { captureBucket } from './capture-bucket';
import { bucketsOf } from './found-buckets';
import { restoreBucket } from './restore-bucket';
import { surveyBucket } from './survey-bucket';
import { testBuckets } from './test-buckets';

/** Buckets of an object storage that speaks the S3 protocol. */
export const bucketConnector: Connector<'bucket'> = {
  system: {
    test: ({ server }) => testBuckets(server),
    discover: ({ server }) => bucketsOf(server),
  },
  capture: captureBucket,
  survey: surveyBucket,
  restore: restoreBucket,
};
