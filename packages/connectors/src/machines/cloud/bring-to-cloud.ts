import { countOf, formatBytes } from '@lithodex/core';
import type { CloudDestination, PlatformRef } from '@lithodex/kinds';
import type { OpenPoint, RestoreContext, RestoreOutcome } from '../../connector';
import { cloudClient } from '../kept-clients';
import type { StoredMachine } from '../machine-item';
import { CloudRestore, type SentDisk } from './cloud-restore';

const wordsOf: Readonly<Record<SentDisk['before'], (bytes: string) => string>> = {
  nothing: (bytes) => `sent: ${bytes}`,
  earlier: (bytes) => `lay there as of an earlier point, what differs was sent: ${bytes}`,
  same: () => 'lay there already, nothing was sent',
};

/** Brings a machine into a cloud, or its disks alone, ahead of it. A trial looks whether the cloud lets us in and writes nothing. */
export async function bringToCloud(
  ctx: RestoreContext,
  point: OpenPoint,
  stored: StoredMachine,
  platform: PlatformRef,
  destination: CloudDestination,
): Promise<RestoreOutcome> {
  const { store, kept, root, top } = point;
  const client = cloudClient(platform);
  if (ctx.trial) {
    const { rights } = await client.account();
    const message = `the cloud lets us in with ${countOf(rights.length, 'right')}; nothing was made in ${destination.region}`;
    ctx.note({ code: 'TRIAL', path: '', message });
    const items = stored.disks.filter((d) => d.file !== '').length;
    return { items, summary: `${countOf(items, 'disk')} looked at, nothing written` };
  }
  let items = 0;
  const made: string[] = [];
  await new CloudRestore({
    client,
    root,
    top,
    stored,
    trees: store.trees,
    nameKey: store.keys.nameKey,
    readChunk: (name) => store.reader.read(name),
    rootOf: async (seriesId, taskId) => (await kept?.root(seriesId, taskId))?.root,
    destination,
    taskId: ctx.taskId,
    onDisk: ({ file, label, sent, before }) => {
      items++;
      ctx.done({ path: file, action: before === 'same' ? 'same' : 'write', kind: 'file', bytes: sent, remark: '' });
      ctx.note({ code: 'DISK', path: file, message: `${label} ${wordsOf[before](formatBytes(sent))}` });
    },
    onInstance: (instance) => {
      made.push(instance.id);
      const reach = instance.address === null ? 'no address that is reached from everywhere' : `the address ${instance.address}`;
      const message = `${destination.name} was made in ${instance.region} as ${instance.size}, on ${instance.network}, with ${reach}`;
      ctx.note({ code: 'MACHINE_MADE', path: '', message });
    },
    onRemoved: ({ name, region }) => {
      ctx.note({ code: 'MACHINE_REMOVED', path: '', message: `${name} in ${region}, of the time before, was removed with its volumes` });
    },
    onBytes: ctx.moved,
    phase: ctx.phase,
    stopped: ctx.stopped,
  }).run();
  const checked = 'what was sent was compared by sums that the cloud made of it';
  const what = destination.ahead ? `${countOf(items, 'disk')} sent ahead` : `${countOf(items, 'disk')} done`;
  return { items, summary: `${what}, ${checked}`, made };
}
