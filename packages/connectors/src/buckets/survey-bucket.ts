import { countOf, formatBytes } from '@lithodex/core';
import { EngineError } from '@lithodex/engine';
import { frozenClasses, type BucketFrom } from '@lithodex/kinds';
import type { SurveyContext, Surveyed } from '../connector';
import { BucketClient } from './bucket-client';
import { listObjects } from './list-objects';

/** Lists a bucket and reads no object. Throws SourceError, STOPPED. */
export async function surveyBucket(ctx: SurveyContext, { server, bucket }: BucketFrom): Promise<Surveyed> {
  const client = new BucketClient(server, bucket);
  let [items, bytes, frozen] = [0, 0, 0];
  try {
    await client.settings();
    await listObjects(client, (objects) => {
      if (ctx.stopped()) throw new EngineError('STOPPED');
      items += objects.length;
      for (const o of objects) {
        bytes += o.size;
        if (frozenClasses.includes(o.class)) frozen++;
      }
    });
  } finally {
    await client.close();
  }
  ctx.say('note', { code: 'FOUND', path: '', message: `${countOf(items, 'object')}, ${formatBytes(bytes)}` });
  if (frozen > 0)
    ctx.say('warning', {
      code: 'OBJECT_UNREAD',
      path: '',
      message: `${countOf(frozen, 'object')} of a class that has to be thawed can not be read`,
    });
  return { items, files: items, bytes, warnings: frozen > 0 ? 1 : 0, missing: frozen };
}
