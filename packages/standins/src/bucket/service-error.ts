/** Errors of the service: code and HTTP status as the S3 protocol has them. */
const statuses = {
  AccessDenied: 403,
  BadDigest: 400,
  BucketAlreadyOwnedByYou: 409,
  BucketNotEmpty: 409,
  EntityTooSmall: 400,
  IncompleteBody: 400,
  InsufficientStorage: 507,
  InternalError: 500,
  InvalidAccessKeyId: 403,
  InvalidArgument: 400,
  InvalidPart: 400,
  InvalidPartOrder: 400,
  InvalidObjectState: 403,
  InvalidRange: 416,
  InvalidRequest: 400,
  InvalidStorageClass: 400,
  MalformedXML: 400,
  MethodNotAllowed: 405,
  NoSuchBucket: 404,
  NoSuchKey: 404,
  NoSuchObjectLockConfiguration: 404,
  NoSuchUpload: 404,
  NoSuchVersion: 404,
  NotImplemented: 501,
  ObjectLockConfigurationNotFoundError: 404,
  PreconditionFailed: 412,
  RequestTimeTooSkewed: 403,
  SignatureDoesNotMatch: 403,
  ServiceUnavailable: 503,
  SlowDown: 503,
} as const;

export type ServiceErrorCode = keyof typeof statuses;

export class ServiceError extends Error {
  readonly status: number;

  constructor(
    readonly code: ServiceErrorCode,
    message: string = code,
  ) {
    super(message);
    this.status = statuses[code];
  }
}
