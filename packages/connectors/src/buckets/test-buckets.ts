import { countOf } from '@lithodex/core';
import type { BucketService, SystemTest } from '@lithodex/kinds';
import { LookedRights } from '../looked-rights';
import { BucketClient, type ListedObject } from './bucket-client';
import { bucketNames } from './found-buckets';

/** So many buckets are tried. */
const tried = 5;

/** Signs in and looks whether the account may do what is needed, in some of the buckets. Writes nothing. */
export async function testBuckets(service: BucketService): Promise<SystemTest> {
  const looked = new LookedRights();
  const { look } = looked;
  let names: readonly string[] = [];
  await look(
    'List buckets',
    service.buckets.length ? 'not needed, as they are named' : 'to find what there is, and what is new',
    async () => {
      names = await bucketNames(service);
      return `${countOf(names.length, 'bucket')}${service.buckets.length ? ' named' : ''}.`;
    },
  );
  for (const name of names.slice(0, tried)) await testOne(new BucketClient(service, name), name, service.versions, look);
  return looked.test(names.length, 'The service', 'bucket');
}

type Look = LookedRights['look'];

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
