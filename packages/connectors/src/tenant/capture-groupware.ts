import { joinPath } from '@lithodex/core';
import type { TreeEntry } from '@lithodex/engine';
import { tenantTops, urlOfPerson, type Tenant, type TenantItem, type TenantMember } from '@lithodex/kinds';
import { SourceError } from '../source-error';
import { idOfName, titledItem } from './calendar-facts';
import { DavClient, noneYet, spaces, xmlText, type DavItem } from './dav-client';
import { folderState, itemFacts } from './item-facts';
import { folderName, titledStem } from './item-words';
import { FreeNames, type MemberWriting } from './member-writing';
import { basic } from '../service-client';

export type Collections = 'calendars' | 'contacts';
const ending = { calendars: '.ics', contacts: '.vcf' } as const;
const typeOf = { calendars: 'calendar', contacts: 'addressbook' } as const;
const atOnce = 60;

/** Opens the calendars and address books of a member. */
export function openGroupware(tenant: Tenant, { login }: Pick<TenantMember, 'login'>, stopped?: () => boolean): DavClient {
  const { groupware, secrets, authority } = tenant;
  if (!groupware) throw new SourceError('TENANT_FAILED', 'calendars are not connected');
  const authorization = basic(groupware.account, secrets.groupware ?? '');
  return new DavClient(urlOfPerson(groupware.url, login), { name: 'the calendar server', authorization, authority, stopped });
}

/** Calendars and address books that there are. */
export async function collectionsOf(client: DavClient): Promise<{ readonly kind: Collections; readonly item: DavItem }[]> {
  const props = '<d:resourcetype/><d:displayname/><c:supported-calendar-component-set/>';
  const { items } = await client.propfind(client.root, 1, props);
  return items.flatMap((item) => {
    const kind = (['calendars', 'contacts'] as const).find((k) => item.types.includes(typeOf[k]));
    return kind ? [{ kind, item }] : [];
  });
}

/** Takes the calendars and address books of a member: by sync tokens (RFC 6578) where there are some, else by comparing ETags. Throws SourceError. */
export async function captureGroupware(
  out: MemberWriting,
  tenant: Tenant,
  member: TenantMember,
  base: (kind: Collections) => TreeEntry | undefined,
): Promise<TreeEntry[]> {
  const client = openGroupware(tenant, member, out.ctx.stopped);
  client.onWait = (ms) => {
    out.note('PATIENCE', '', `the calendar server asks to wait ${Math.ceil(ms / 1000)} s`);
  };
  try {
    // somebody who never had a calendar has none; those that were there are not let go quietly
    const had = base('calendars') !== undefined || base('contacts') !== undefined;
    const collections = await (had ? collectionsOf(client) : collectionsOf(client).catch(noneYet));
    const tops: TreeEntry[] = [];
    for (const kind of ['calendars', 'contacts'] as const) {
      const top = tenantTops[kind];
      if (out.leftOut(top, true)) continue;
      const earlier = await out.before(base(kind));
      const names = new FreeNames();
      const folders: TreeEntry[] = [];
      for (const { item } of collections.filter((c) => c.kind === kind)) {
        const before = earlier.find((e) => folderState(e)?.path === item.href);
        const title = item.title || decodeURIComponent(item.href.split('/').filter(Boolean).at(-1) ?? '');
        const name = names.free(folderName(title), '');
        if (out.leftOut(joinPath(top, name), true)) continue;
        folders.push(await captureCollection(out, client, kind, item, { name, path: joinPath(top, name) }, before));
      }
      if (folders.length) tops.push(await out.folder(top, folders));
    }
    return tops;
  } finally {
    await client.close();
  }
}

interface Listed {
  readonly there: Map<string, DavItem>;
  /** Items of before that are as they were, where only what changed was listed. */
  readonly onlyChanges: boolean;
  readonly token: string;
}

async function listCollection(out: MemberWriting, client: DavClient, href: string, token: string | undefined): Promise<Listed> {
  /** A list that the server cuts off (507 for the collection itself, RFC 6578) goes on from its token. */
  const report = async (since: string): Promise<{ readonly items: DavItem[]; readonly token: string }> => {
    const all: DavItem[] = [];
    for (let from = since; ;) {
      const body = `<d:sync-collection ${spaces}><d:sync-token>${xmlText(from)}</d:sync-token><d:sync-level>1</d:sync-level><d:prop><d:getetag/><d:resourcetype/><d:getlastmodified/></d:prop></d:sync-collection>`;
      const { items, token: next } = await client.list('REPORT', href, 0, body);
      all.push(...items);
      if (next === from || !items.some((i) => i.href === href && i.status === 507)) return { items: all, token: next };
      from = next;
    }
  };
  const mapOf = (items: readonly DavItem[]) => new Map(items.filter((i) => i.href !== href && !i.folder).map((i) => [i.href, i]));
  if (token)
    try {
      const found = await report(token);
      return { there: mapOf(found.items), onlyChanges: true, token: found.token };
    } catch (error) {
      if (!(error instanceof SourceError) || error.code === 'TENANT_AWAY') throw error;
      out.note(
        'TOKEN_REFUSED',
        '',
        'the calendar server does not know what changed since the last point: everything is listed and compared',
      );
    }
  try {
    const found = await report('');
    return { there: mapOf(found.items), onlyChanges: false, token: found.token };
  } catch (error) {
    if (!(error instanceof SourceError) || error.code === 'TENANT_AWAY') throw error;
    const found = await client.propfind(href, 1, '<d:getetag/><d:resourcetype/><d:getlastmodified/>');
    return { there: mapOf(found.items), onlyChanges: false, token: '' };
  }
}

async function captureCollection(
  out: MemberWriting,
  client: DavClient,
  kind: Collections,
  { href, title, components }: DavItem,
  { name, path }: { readonly name: string; readonly path: string },
  before: TreeEntry | undefined,
): Promise<TreeEntry> {
  out.goOn();
  const { there, onlyChanges, token } = await listCollection(out, client, href, before && folderState(before)?.token);
  const names = new FreeNames();
  const entries: TreeEntry[] = [];
  const known = new Map<string, { entry: TreeEntry; facts: TenantItem & { href: string; etag: string } }>();
  for (const entry of await out.before(before)) {
    const facts = itemFacts(entry);
    if (facts && 'href' in facts) known.set(facts.href, { entry, facts });
  }
  const wanted: string[] = [];
  for (const [at, { entry, facts }] of known) {
    const now = there.get(at);
    const same = onlyChanges ? now === undefined : now?.etag === facts.etag;
    if (!same || out.leftOut(joinPath(path, entry.name), false)) continue;
    names.take(entry.name);
    entries.push(out.reused(entry, facts));
  }
  for (const [at, item] of there) {
    if (item.status >= 400) continue;
    if (!onlyChanges && known.get(at)?.facts.etag === item.etag) continue;
    wanted.push(at);
  }
  for (let at = 0; at < wanted.length; at += atOnce) {
    out.goOn();
    const part = wanted.slice(at, at + atOnce);
    const data = await multiget(client, kind, href, part);
    for (const own of part) {
      const found = data.get(own);
      // removed meanwhile
      if (!found) continue;
      const text = found.data.replace(/\r?\n/g, '\r\n');
      const facts = titledItem(kind, text, own, found.etag === '' ? (there.get(own)?.etag ?? '') : found.etag);
      const stem = 'id' in facts ? titledStem('title' in facts ? facts.title : '', idOfName(facts.id)) : '';
      const mtime = there.get(own)?.mtime ?? 0;
      const file = names.free(stem, ending[kind]);
      if (out.leftOut(joinPath(path, file), false)) continue;
      entries.push(out.item(file, await out.content(Buffer.from(text)), mtime > 0 ? mtime : null, facts));
    }
    await out.passed();
  }
  return out.folder(name, entries, { path: href, token, title, components: [...components] });
}

/** Several items at once (RFC 4791, RFC 6352). */
export async function multiget(
  client: DavClient,
  kind: Collections,
  href: string,
  hrefs: readonly string[],
): Promise<Map<string, DavItem>> {
  const [element, data] =
    kind === 'calendars' ? ['c:calendar-multiget', '<c:calendar-data/>'] : ['a:addressbook-multiget', '<a:address-data/>'];
  const body = `<${element} ${spaces}><d:prop><d:getetag/>${data}</d:prop>${hrefs.map((h) => `<d:href>${xmlText(h)}</d:href>`).join('')}</${element}>`;
  const { items } = await client.list('REPORT', href, 1, body);
  return new Map(items.filter((i) => i.data !== '').map((i) => [i.href, i]));
}
