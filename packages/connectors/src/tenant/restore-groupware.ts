import { countOf, decideConflict } from '@lithodex/core';
import { Readable } from 'node:stream';
import { v4 as uuid } from 'uuid';
import { SourceError } from '../source-error';
import { collectionsOf, multiget, openGroupware, type Collections } from './capture-groupware';
import { titledItem } from './calendar-facts';
import { noneYet, spaces, xmlText, type DavClient, type DavItem } from './dav-client';
import { folderState, itemFacts } from './item-facts';
import type { ItemBack, Restoring } from './restoring';
import { storedBytes } from './stored-bytes';
import { sameMeaning, underId, valueOf } from './same-meaning';

const typeOf = { calendars: 'text/calendar; charset=utf-8', contacts: 'text/vcard; charset=utf-8' } as const;
const ending = { calendars: '.ics', contacts: '.vcf' } as const;
const atOnce = 100;
/** The server took none, or another one was quicker. */
const conflicts = [409, 412];

interface There {
  readonly href: string;
  readonly etag: string;
  readonly text: string;
}

/** Items of a collection by their UID. */
async function itemsThere(client: DavClient, kind: Collections, href: string): Promise<Map<string, There>> {
  const { items } = await client.propfind(href, 1, '<d:getetag/><d:resourcetype/>');
  const hrefs = items.filter((i) => i.href !== href && !i.folder).map((i) => i.href);
  const found = new Map<string, There>();
  for (let at = 0; at < hrefs.length; at += atOnce)
    for (const [own, { data, etag }] of await multiget(client, kind, href, hrefs.slice(at, at + atOnce))) {
      const facts = titledItem(kind, data, own, etag);
      if ('id' in facts) found.set(facts.id, { href: own, etag, text: data });
    }
  return found;
}

/** Makes a calendar (RFC 4791) or an address book (RFC 5689). Gives where it is. */
async function makeCollection(client: DavClient, kind: Collections, title: string, components: readonly string[]): Promise<string> {
  const href = `${client.root}${uuid()}/`;
  const name = `<d:displayname>${xmlText(title)}</d:displayname>`;
  const wanted = components.length ? components : ['VEVENT'];
  const set = `<c:supported-calendar-component-set>${wanted.map((c) => `<c:comp name="${xmlText(c)}"/>`).join('')}</c:supported-calendar-component-set>`;
  const [method, body] =
    kind === 'calendars'
      ? ['MKCALENDAR', `<c:mkcalendar ${spaces}><d:set><d:prop>${name}${set}</d:prop></d:set></c:mkcalendar>`]
      : [
          'MKCOL',
          `<d:mkcol ${spaces}><d:set><d:prop><d:resourcetype><d:collection/><a:addressbook/></d:resourcetype>${name}</d:prop></d:set></d:mkcol>`,
        ];
  const make = (fine: readonly number[]) =>
    client.ask(method, href, {
      headers: { 'content-type': 'application/xml; charset=utf-8' },
      body: () => `<?xml version="1.0" encoding="utf-8"?>${body}`,
      fine,
    });
  // somebody who never had a calendar has no place for one yet
  if ((await make([409])).status === 409) {
    await client.ask('MKCOL', client.root, { fine: [405, 409] });
    await make([]);
  }
  return href;
}

/** Brings appointments and contacts back: told apart by their UID, and by what they mean. */
export async function restoreGroupware(restoring: Restoring, kind: Collections, items: readonly ItemBack[]): Promise<void> {
  const { tenant, to, ctx } = restoring;
  const client = openGroupware(tenant, to.member, ctx.stopped);
  try {
    const there = (await collectionsOf(client).catch(noneYet)).filter((c) => c.kind === kind).map((c) => c.item);
    for (const own of restoring.byFolder(items)) {
      restoring.goOn();
      const title = restoring.placeOf(own[0]!.folders).join(' / ');
      const state = folderState(own[0]!.above.at(-1) ?? { attributes: [] });
      const href = placeThere(there, title, to.below === '' ? state?.path : undefined);
      const made = href === undefined && !ctx.trial ? await makeCollection(client, kind, title, state?.components ?? []) : href;
      await intoCollection(restoring, client, kind, { href: made, title }, own);
    }
  } finally {
    await client.close();
  }
}

const titleOf = ({ title, href }: DavItem) => title || decodeURIComponent(href.split('/').filter(Boolean).at(-1) ?? '');
/** The collection that was meant: where it was, else one of that name. */
const placeThere = (there: readonly DavItem[], title: string, path: string | undefined): string | undefined =>
  (there.find((i) => i.href === path) ?? there.find((i) => titleOf(i) === title))?.href;

async function intoCollection(
  restoring: Restoring,
  client: DavClient,
  kind: Collections,
  { href, title }: { readonly href: string | undefined; readonly title: string },
  items: readonly ItemBack[],
): Promise<void> {
  const { trial } = restoring.ctx;
  const there = href === undefined ? new Map<string, There>() : await itemsThere(client, kind, href);
  const before = there.size;
  let added = 0;
  for (const item of items) {
    restoring.goOn();
    try {
      const text = (await storedBytes(item)).toString('utf8');
      const facts = itemFacts(item.entry);
      const id = facts && 'id' in facts ? facts.id : '';
      const existing = there.get(id);
      const changed = (of: string) => BigInt(Date.parse(valueOf(of, kind === 'calendars' ? 'last-modified' : 'rev')) || 0) * 1_000_000n;
      const action = decideConflict(
        restoring.to.exists,
        { isFolder: false, mtimeNs: changed(text) },
        existing && { isFolder: false, mtimeNs: changed(existing.text), identical: sameMeaning(text, existing.text) },
      );
      if (action === 'write' || action === 'beside') added++;
      if (!trial && href !== undefined && action !== 'leave' && action !== 'same') {
        const own = action === 'beside' ? uuid() : id;
        const body = Buffer.from(action === 'beside' ? underId(text, own) : text);
        const at = action === 'replace' ? existing!.href : `${href}${encodeURIComponent(own || uuid())}${ending[kind]}`;
        const condition: Record<string, string> = action === 'replace' ? { 'if-match': existing!.etag } : { 'if-none-match': '*' };
        const headers = { 'content-type': typeOf[kind], ...condition };
        const { status, etag } = await client.write(at, () => Readable.from([body]), body.length, { headers, fine: conflicts });
        if (conflicts.includes(status))
          throw new SourceError('TENANT_FAILED', 'somebody else changed it meanwhile, or its id stands in another calendar');
        restoring.ctx.moved(body.length);
        there.set(own, { href: at, etag, text });
      }
      await restoring.done(item.path, item.entry, action);
    } catch (error) {
      await restoring.failed(item.path, item.entry, error);
    }
  }
  const noun = kind === 'calendars' ? 'appointment' : 'contact';
  if (trial) {
    restoring.note(`${title}: ${countOf(before, noun)} now, ${before + added} after; nothing was written`);
    return;
  }
  const after = href === undefined ? 0 : (await itemsThere(client, kind, href)).size;
  restoring.note(`${title}: ${before} → ${countOf(after, noun)}`);
}
