import { S3, type PutObjectCommandInput } from '@aws-sdk/client-s3';
import { BucketService, rights, type Account } from '@lithodex/standins';

process.env['AWS_SDK_JS_NODE_VERSION_SUPPORT_WARNING_DISABLED'] = 'true';

/** What opens the account that tests connect by. */
export const objectSecret = 'what opens the storage of objects';

/** An object storage with buckets in it, as somebody else uses it. */
export class ObjectStorage {
  private constructor(
    readonly service: BucketService,
    readonly endpoint: string,
    readonly s3: S3,
  ) {}

  static async start(folder: string, buckets: readonly string[], accounts: readonly Account[] = []): Promise<ObjectStorage> {
    const own = { accessKey: 'keeper', secretKey: objectSecret, rights };
    const service = new BucketService({ folder, accounts: [own, ...accounts] });
    const endpoint = await service.start();
    for (const name of buckets) service.makeBucket(name);
    const credentials = { accessKeyId: own.accessKey, secretAccessKey: own.secretKey };
    return new ObjectStorage(service, endpoint, new S3({ endpoint, region: 'us-east-1', forcePathStyle: true, credentials }));
  }

  async put(Bucket: string, Key: string, Body: string | Buffer, more: Partial<PutObjectCommandInput> = {}): Promise<void> {
    await this.s3.putObject({ Bucket, Key, Body, ...more });
  }

  async remove(Bucket: string, ...keys: string[]): Promise<void> {
    for (const Key of keys) await this.s3.deleteObject({ Bucket, Key });
  }

  /** Everything of a bucket that is told of its objects, by key; not what the service makes up itself. */
  async described(Bucket: string): Promise<Record<string, object>> {
    const found: Record<string, object> = {};
    for (const [Key, [version]] of this.service.shelf.bucket(Bucket).keys) {
      if (!version || version.marker) continue;
      const { size, etag, meta, tags = [], grants = [], class: own = 'STANDARD' } = version;
      // what comes in parts has a sum of its own
      const sum = size > 16 << 20 ? `${size} bytes` : etag;
      found[Key] = { size, sum, meta: Object.fromEntries(Object.entries(meta).sort()), tags, grants, class: own };
    }
    return found;
  }

  async stop(): Promise<void> {
    this.s3.destroy();
    await this.service.stop();
  }
}
