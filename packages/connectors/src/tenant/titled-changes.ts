import type { TreeEntry } from '@lithodex/engine';
import type { ReadableTree } from '../readable-tree';
import { collectionsOf, multiget, type Collections } from './capture-groupware';
import { foldersBelow, foldersIn, type ChangesTold, type StoredItem } from './changes-told';
import { noneYet, type DavClient } from './dav-client';
import { changedFields, itemFields } from './item-fields';
import { folderState, itemFacts } from './item-facts';
import { sameMeaning } from './same-meaning';
import { storedBytes } from './stored-bytes';

const atOnce = 60;

const fieldOf = (text: string, ...labels: readonly string[]) => itemFields(text)?.find((f) => labels.includes(f.label))?.value ?? '';

/** Appointments or contacts of a point beside those of now, field by field. */
export async function titledChanges(
  told: ChangesTold,
  client: DavClient,
  kind: Collections,
  tree: ReadableTree,
  top: TreeEntry,
  path: string,
): Promise<void> {
  const live = (await collectionsOf(client).catch(noneYet)).filter((c) => c.kind === kind).map((c) => c.item.href);
  for await (const { path: folder, entry, items } of foldersBelow(tree, top, path)) {
    told.goOn();
    told.looked += items.length;
    const href = folderState(entry)?.path;
    if (href === undefined) continue;
    const listed = live.includes(href) ? (await client.propfind(href, 1, '<d:getetag/><d:resourcetype/>')).items : [];
    const now = new Map(listed.filter((i) => !i.folder && i.href !== href).map((i) => [i.href, i]));
    const changed: (StoredItem & { readonly href: string })[] = [];
    for (const item of items) {
      const facts = itemFacts(item.entry);
      if (!facts || !('etag' in facts)) continue;
      const there = now.get(facts.href);
      now.delete(facts.href);
      if (!there) told.tell(item, 'gone');
      else if (there.etag !== facts.etag) changed.push({ ...item, href: facts.href });
    }
    for (let at = 0; at < changed.length; at += atOnce) {
      told.goOn();
      const part = changed.slice(at, at + atOnce);
      const hrefs = part.map((c) => c.href);
      const texts = await multiget(client, kind, href, hrefs);
      for (const item of part) {
        const then = (await storedBytes({ tree, entry: item.entry })).toString('utf8');
        const own = texts.get(item.href)?.data ?? '';
        if (own === '' || sameMeaning(then, own)) continue;
        told.tell(item, 'changed', changedFields(itemFields(then) ?? [], itemFields(own) ?? []));
      }
    }
    if (!told.whole) continue;
    const added = [...now.keys()];
    for (let at = 0; at < added.length; at += atOnce) {
      told.goOn();
      for (const { data } of (await multiget(client, kind, href, added.slice(at, at + atOnce))).values())
        told.tellAdded({
          type: kind === 'calendars' ? 'appointment' : 'contact',
          label: fieldOf(data, 'Title', 'Name'),
          about: fieldOf(data, 'Begins', 'Mail'),
          folder: foldersIn(`${folder}/`).join(' / '),
          at: null,
          size: data.length,
        });
    }
  }
}
