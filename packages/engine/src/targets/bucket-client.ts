import type { S3 } from '@aws-sdk/client-s3';

/** How a service that speaks the S3 protocol is reached and opened. */
export interface BucketOpener {
  readonly endpoint: string;
  readonly region: string;
  readonly accessKey: string;
  readonly secretKey: string;
  /** The certificate authority that its certificate is checked with, as text; null for those the system trusts. */
  readonly authority?: string | null;
}

/** A client of a service, which tries each request so often. The SDK takes long to load, so only those who use one load it. */
export async function openBucketClient({ endpoint, region, accessKey, secretKey, authority }: BucketOpener, tries: number): Promise<S3> {
  process.env['AWS_SDK_JS_NODE_VERSION_SUPPORT_WARNING_DISABLED'] = 'true';
  const [sdk, { BucketHandler }] = await Promise.all([import('@aws-sdk/client-s3'), import('./bucket-handler')]);
  return new sdk.S3({
    endpoint,
    region,
    forcePathStyle: true,
    credentials: { accessKeyId: accessKey, secretAccessKey: secretKey },
    maxAttempts: tries,
    requestHandler: new BucketHandler(authority ?? null),
  });
}
