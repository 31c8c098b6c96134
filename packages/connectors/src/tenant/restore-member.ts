import { countOf, grouped, joinPath, objectNameOf } from '@lithodex/core';
import type { TreeEntry } from '@lithodex/engine';
import { tenantTops, type TenantTo } from '@lithodex/kinds';
import type { RestoreContext, RestoreOutcome, RestorePick } from '../connector';
import type { ReadableTree } from '../readable-tree';
import { SourceError } from '../source-error';
import { itemFacts } from './item-facts';
import { restoreChat } from './restore-chat';
import { restoreDrive } from './restore-drive';
import { restoreGroupware } from './restore-groupware';
import { restoreMail } from './restore-mail';
import { Restoring, type ItemBack } from './restoring';

const services: Readonly<Record<string, (restoring: Restoring, items: readonly ItemBack[]) => Promise<void>>> = {
  [tenantTops.mail]: restoreMail,
  [tenantTops.calendars]: (restoring, items) => restoreGroupware(restoring, 'calendars', items),
  [tenantTops.contacts]: (restoring, items) => restoreGroupware(restoring, 'contacts', items),
  [tenantTops.drive]: restoreDrive,
  [tenantTops.files]: restoreDrive,
  [tenantTops.chat]: restoreChat,
};

/** The service that items belong to, and the folders below: the first folder that is that of a service stands above them, in a mail store as well. */
function placeIn(above: readonly TreeEntry[]): Pick<ItemBack, 'service' | 'folders'> {
  const at = above.findIndex((e) => Object.hasOwn(services, e.name));
  return { service: above[at]?.name ?? '', folders: above.slice(at + 1).map((e) => objectNameOf(e.name)) };
}

async function* itemsBelow(tree: ReadableTree, entry: TreeEntry, path: string, above: readonly TreeEntry[]): AsyncGenerator<ItemBack> {
  if (!entry.folder) {
    if (entry.kind === 'file' && !entry.unread) yield { path, entry, tree, above, ...placeIn(above) };
    return;
  }
  const own = path === '' ? above : [...above, entry];
  for await (const piece of tree.trees.pieces(entry.folder.node))
    for (const child of piece) yield* itemsBelow(tree, child, joinPath(path, child.name), own);
}

/** Brings what was picked back to a member, service by service. A trial looks what would happen and writes nothing. Throws SourceError. */
export async function restoreMember(
  ctx: RestoreContext,
  picks: readonly RestorePick[],
  { server, destination }: TenantTo,
): Promise<RestoreOutcome> {
  ctx.phase('preparing');
  const all: ItemBack[] = [];
  const seen = new Set<string>();
  for (const pick of picks) {
    const { root } = await pick.open();
    const { tree, entry, parents } = await pick.find();
    for await (const item of itemsBelow(tree, entry, pick.path, parents)) {
      // a folder and something in it may be picked both, and a message from several points, whose name tells its bytes
      const key = itemFacts(item.entry)?.type === 'message' ? item.path : `${root.taskId} ${item.path}`;
      if (!seen.has(key)) all.push(item);
      seen.add(key);
    }
  }
  const byTop = grouped(all, (item) => item.service);
  const restoring = new Restoring(ctx, server, destination);
  const failures: SourceError[] = [];
  for (const [top, items] of byTop) {
    ctx.phase(`bringing back ${top.toLowerCase()}`);
    try {
      await services[top]?.(restoring, items);
    } catch (error) {
      if (!(error instanceof SourceError)) throw error;
      failures.push(error);
      await restoring.gaveUp(items, error);
    }
  }
  // what one service keeps from being done keeps no other from it; where none could be used, that is the cause
  if (failures[0] && failures.length === byTop.size) throw failures[0];
  const count = (action: 'write' | 'same' | 'leave' | 'replace' | 'beside') => restoring.acts.get(action) ?? 0;
  const parts = [
    `${countOf(count('write') + count('beside') + count('replace'), 'item')} brought back to ${destination.member.name}`,
    ...(count('same') ? [`${count('same')} there already`] : []),
    ...(count('leave') ? [`${count('leave')} left as they are`] : []),
    ...(count('replace') ? [`${count('replace')} of them replaced what was there`] : []),
  ];
  return { items: restoring.items, summary: `${ctx.trial ? 'tried without writing: ' : ''}${parts.join(', ')}` };
}
