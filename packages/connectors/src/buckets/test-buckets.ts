import { countOf } from '@lithodex/core';
import type { BucketService, SystemTest } from '@lithodex/kinds';
import { SourceError } from '../source-error';
import { BucketClient, type ListedObject } from './bucket-client';
import { bucketNames } from './found-buckets';

/** So many buckets are tried. */
const tried = 5;

/** Signs in and looks whether the account may do what is needed, in some of the buckets. Writes nothing. */
export async function testBuckets(service: BucketService): Promise<SystemTest> {
  const needs: SystemTest['needs'] = [];
  const remarks: string[] = [];
  let names: readonly string[] = [];
  const look = async (right: string, neededFor: string, act: () => Promise<string>) => {
    try {
      remarks.push(await act());
      needs.push({ right, neededFor, missing: false });
    } catch (error) {
      if (!(error instanceof SourceError)) throw error;
      needs.push({ right, neededFor, missing: true });
      remarks.push(error.message);
    }
  };
  await look(
    'List buckets',
    service.buckets.length ? 'not needed, as they are named' : 'to find what there is, and what is new',
    async () => {
      names = await bucketNames(service);
      return `${countOf(names.length, 'bucket')}${service.buckets.length ? ' named' : ''}.`;
    },
  );
  for (const name of names.slice(0, tried)) await testOne(new BucketClient(service, name), name, service.versions, look);
  const missing = needs.filter((n) => n.missing);
  const reached = names.length > 0 && needs.some((n, i) => i > 0 && !n.missing);
  return {
    ok: reached,
    message: !reached
      ? (remarks.find((_, i) => needs[i]?.missing) ?? 'There is no bucket.')
      : missing.length
        ? 'The service answers; not everything is allowed.'
        : 'The service answers, and the account may read what is needed. Whether it may write is seen when something is brought back.',
    needs,
    remarks,
    credentialEnds: null,
    found: names.length,
  };
}

type Look = (right: string, neededFor: string, act: () => Promise<string>) => Promise<void>;

async function testOne(client: BucketClient, name: string, versions: boolean, look: Look): Promise<void> {
  let first: ListedObject | undefined;
  try {
    await look(`List objects of ${name}`, 'to find what is there, and what changed', async () => {
      const { objects, more } = await client.page('', 10);
      first = objects[0];
      return objects.length ? `It holds ${more ? 'more than ' : ''}${countOf(objects.length, 'object')}.` : 'It is empty.';
    });
    await look(`Read the settings of ${name}`, 'to tell whether it keeps versions', async () => {
      const { versioning, locks } = await client.settings();
      const keeps = versioning === 'on' ? 'It keeps versions' : 'It keeps no versions: what is deleted there is kept by points alone';
      return `${keeps}${locks ? ', and can lock them' : ''}.`;
    });
    if (versions)
      await look(`List versions of ${name}`, 'to take what was replaced or deleted', async () => {
        await client.versions(undefined);
        return 'They are listed.';
      });
    const key = first?.key;
    if (key === undefined) return;
    await look(`Read objects of ${name}`, 'to back them up', async () => {
      const { body } = await client.open(key, { from: 0, to: Math.min(first!.size, 1), etag: first!.etag });
      for await (const _ of body) continue;
      return 'One was opened.';
    });
    await look(`Read tags of objects of ${name}`, 'to bring them back with their tags', async () => {
      const tags = await client.tags(key);
      return `That one has ${countOf(tags.length, 'tag')}.`;
    });
  } finally {
    await client.close();
  }
}
