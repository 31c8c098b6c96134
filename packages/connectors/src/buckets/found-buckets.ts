import { frozenClasses, lookingPages, type BucketFacts, type BucketNow, type BucketService, type FoundWorkload } from '@lithodex/kinds';
import { SourceError } from '../source-error';
import { BucketClient } from './bucket-client';

/** Names of the buckets that are meant: those that are listed, or those that were named. */
export async function bucketNames(service: BucketService): Promise<readonly string[]> {
  if (service.buckets.length) return service.buckets;
  const client = new BucketClient(service, '');
  try {
    return await client.buckets();
  } finally {
    await client.close();
  }
}

/** The buckets of a service, each with how much of it was counted. Throws SourceError. */
export async function bucketsOf(service: BucketService): Promise<FoundWorkload[]> {
  const found: FoundWorkload[] = [];
  for (const name of await bucketNames(service)) found.push({ id: name, name: name.slice(0, 120), facts: await factsOf(service, name) });
  return found;
}

async function factsOf(service: BucketService, name: string): Promise<BucketFacts> {
  const client = new BucketClient(service, name);
  const counted = { objects: 0, bytes: 0, frozen: 0 };
  const unknown = { versioning: 'off', locks: false } as const;
  try {
    const settings = await client.settings();
    let [after, more] = ['', true];
    for (let pages = 0; more && pages < lookingPages; pages++) {
      const page = await client.page(after);
      counted.objects += page.objects.length;
      for (const o of page.objects) {
        counted.bytes += o.size;
        if (frozenClasses.includes(o.class)) counted.frozen++;
      }
      after = page.objects.at(-1)?.key ?? after;
      more = page.more;
    }
    return { kind: 'bucket', ...settings, ...counted, more, trouble: '' };
  } catch (error) {
    // one that may not be looked into keeps nobody from the others
    if (!(error instanceof SourceError) || !['BUCKET_RIGHT_MISSING', 'BUCKET_GONE'].includes(error.code)) throw error;
    return { kind: 'bucket', ...unknown, ...counted, more: false, trouble: error.message.slice(0, 1000) };
  } finally {
    await client.close();
  }
}

/** What is there where a restore is to go. */
export async function bucketNow(service: BucketService, name: string): Promise<BucketNow> {
  const client = new BucketClient(service, name);
  try {
    return { there: true, ...(await client.settings()), trouble: '' };
  } catch (error) {
    if (!(error instanceof SourceError)) throw error;
    const gone = error.code === 'BUCKET_GONE';
    return { there: false, versioning: 'off', locks: false, trouble: gone ? '' : error.message.slice(0, 1000) };
  } finally {
    await client.close();
  }
}
