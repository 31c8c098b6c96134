import { isOfTemplate, textAt, withValue, type JsonObject, type Resource, type RestoreAction } from '@lithodex/core';
import type { ApplicationDestination } from '@lithodex/kinds';
import type { RestoreContext } from '../connector';
import { SourceError } from '../source-error';
import type { ClusterClient } from './cluster-client';
import { fillDisk, fillVolume } from './fill-volume';
import { helperName, helperPod, withHelper } from './helper-pod';
import { continuesNote, seriesOf } from './place-of';
import type { StoredApplication, StoredVolume } from './stored-application';

const helperMs = 600_000;
const mostName = 253;
/** On a claim that a restore makes: its task, while it fills it and once it is whole. */
const fillingNote = 'lithodex/filling';
const filledNote = 'lithodex/filled';

export interface VolumeBack {
  readonly client: ClusterClient;
  readonly ctx: RestoreContext;
  readonly to: ApplicationDestination;
  readonly stored: StoredApplication;
  readonly volume: StoredVolume;
  /** As it is to be made. */
  readonly claim: Resource;
  /** The namespace was there before. */
  readonly there: boolean;
}

interface Back {
  readonly action: RestoreAction | 'failed';
  /** Of the claim. */
  readonly name: string;
  readonly remark: string;
}

/** Brings a volume back: under its own name where that is free, else as the rule says beside it. One that an earlier attempt made whole stays. Throws SourceError, STOPPED. */
export async function bringBackVolume(back: VolumeBack): Promise<Back> {
  const { client, ctx, to, claim, there } = back;
  const kind = await client.kindNamed('PersistentVolumeClaim');
  const look = (name: string) => (there || !ctx.trial ? client.get(kind, to.namespace, name) : Promise.resolve(undefined));
  const own = claim.metadata.name;
  const now = await look(own);
  if (!now || isOurs(now, ctx.taskId)) return fill(back, own, now, 'write');
  if (to.exists === 'leave') return { action: 'leave', name: own, remark: '' };
  for await (const set of client.list(await client.kindNamed('StatefulSet', 'apps'), to.namespace))
    if (isOfTemplate(set, own))
      return {
        action: 'failed',
        name: own,
        remark: `${set.metadata.name} makes it by a template of its own, which names it: bring it to another namespace`,
      };
  const beside = `${own.slice(0, mostName - to.stamp.length - 1)}-${to.stamp}`;
  const twin = await look(beside);
  if (twin && !isOurs(twin, ctx.taskId)) return { action: 'failed', name: own, remark: `there is ${beside} beside it already` };
  return fill(back, beside, twin, 'beside');
}

const note = (claim: Resource, name: string) => textAt(claim.metadata, 'annotations', name);
const isOurs = (claim: Resource, taskId: string) => [fillingNote, filledNote].some((n) => note(claim, n) === taskId);

async function fill(
  { client, ctx, to, stored, volume, claim }: VolumeBack,
  name: string,
  now: Resource | undefined,
  action: 'write' | 'beside',
): Promise<Back> {
  const remark = action === 'beside' ? name : '';
  if (ctx.trial || (now && note(now, filledNote) === ctx.taskId)) return { action, name, remark };
  const kind = await client.kindNamed('PersistentVolumeClaim');
  if (!now) {
    const notes = { [fillingNote]: ctx.taskId, ...(action === 'beside' && { [continuesNote]: seriesOf(claim) }) };
    const made = Object.entries(notes).reduce<JsonObject>(
      (at, [n, value]) => withValue(at, ['metadata', 'annotations', n], value),
      withValue<JsonObject>(claim, ['metadata', 'name'], name),
    );
    await client.create(kind, to.namespace, made);
  }
  try {
    const pod = helperPod(helperName(ctx.taskId, 'filler', 0), ctx.taskId, name, client.cluster.image, {
      block: volume.block,
      writes: true,
    });
    const { tree } = stored;
    const left = await withHelper(client, to.namespace, pod, { ms: helperMs, stopped: ctx.stopped }, async (at) => {
      const filling = { cluster: client.cluster, at, tree, entry: volume.entry, stopped: ctx.stopped, moved: ctx.moved };
      if (!volume.block) return (await fillVolume(filling)).left;
      await fillDisk(filling);
      return 0;
    });
    await client.change(kind, to.namespace, name, { metadata: { annotations: { [fillingNote]: null, [filledNote]: ctx.taskId } } });
    return {
      action,
      name,
      remark: [remark, left ? `${left} items were not in the point: they could not be read when it was taken` : '']
        .filter(Boolean)
        .join('; '),
    };
  } catch (error) {
    // half a volume is none
    await client.remove(kind, to.namespace, name);
    if (!(error instanceof SourceError) || ['CLUSTER_REFUSED', 'CLUSTER_AWAY'].includes(error.code)) throw error;
    throw new SourceError('VOLUME_FAILED', `${name}: ${error.message.replace(/\.$/, '')}`);
  }
}
