import { countOf, formatBytes, kindOf } from '@lithodex/core';
import { EngineError } from '@lithodex/engine';
import type { ApplicationFrom } from '@lithodex/kinds';
import type { SurveyContext, Surveyed } from '../connector';
import { readResources } from './application-resources';
import { ClusterClient } from './cluster-client';
import { freezableClasses } from './frozen-volumes';
import { classOf, isUnused, roomOf } from './place-of';

/** Looks at everything a run would take, but for what is in volumes. Throws SourceError, STOPPED. */
export async function surveyApplication(ctx: SurveyContext, { server, namespace }: ApplicationFrom): Promise<Surveyed> {
  const client = new ClusterClient(server, ctx.stopped);
  try {
    const { resources, live, refused } = await readResources(client, namespace, () => {
      if (ctx.stopped()) throw new EngineError('STOPPED');
    });
    const classes = await freezableClasses(client);
    const claims = live.filter((r) => kindOf(r) === 'PersistentVolumeClaim' && !isUnused(r));
    const bytes = claims.reduce((sum, c) => sum + roomOf(c), 0);
    ctx.say('note', {
      code: 'FOUND',
      path: '',
      message: `${countOf(resources.length, 'resource')}, ${countOf(claims.length, 'volume')} of at most ${formatBytes(bytes)}`,
    });
    for (const kind of refused) ctx.say('warning', { code: 'RESOURCES_UNREAD', path: '', message: `${kind} can not be listed` });
    const unfrozen = claims.filter((c) => !classes.has(classOf(c)));
    for (const { metadata } of unfrozen)
      ctx.say('warning', { code: 'VOLUME_IN_USE', path: '', message: `${metadata.name} can not be frozen: it is read while it is used` });
    return {
      items: resources.length + claims.length,
      files: resources.length,
      bytes,
      warnings: refused.length + unfrozen.length,
      missing: refused.length,
    };
  } finally {
    await client.close();
  }
}
