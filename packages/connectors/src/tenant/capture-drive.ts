import { bytesOfText, joinPath, objectNameOf } from '@lithodex/core';
import type { TreeEntry } from '@lithodex/engine';
import { urlOfPerson, type Tenant, type TenantMember } from '@lithodex/kinds';
import { SourceError } from '../source-error';
import { DavClient, type DavItem } from './dav-client';
import { itemFacts } from './item-facts';
import type { MemberWriting } from './member-writing';
import { basic } from '../service-client';

const props = '<d:resourcetype/><d:getetag/><d:getcontentlength/><d:getlastmodified/>';
const mostDepth = 100;

/** Opens the files of a person, or those of a site. */
export function openDrive(tenant: Tenant, { type, login }: Pick<TenantMember, 'type' | 'login'>, stopped?: () => boolean): DavClient {
  const { drives, sites, secrets, authority } = tenant;
  if (type === 'site') {
    if (!sites) throw new SourceError('TENANT_FAILED', 'sites are not connected');
    const url = `${sites.url.replace(/\/*$/, '')}/${encodeURIComponent(login)}/`;
    return new DavClient(url, {
      name: 'the server of sites',
      authorization: basic(sites.account, secrets.sites ?? ''),
      authority,
      stopped,
    });
  }
  if (!drives) throw new SourceError('TENANT_FAILED', 'drives are not connected');
  const authorization = basic(drives.account, secrets.drives ?? '');
  return new DavClient(urlOfPerson(drives.url, login), { name: 'the server of drives', authorization, authority, stopped });
}

/** Name of a file of a drive as a byte string. */
export function driveName(name: string): string {
  const dots = name === '.' || name === '..';

  return bytesOfText(name.replace(dots ? /\./g : /[~/\0-\x1f\x7f]/g, (c) => `~${c.charCodeAt(0).toString(16).padStart(2, '0')}`));
}

/** Path on a drive of a path in a point, percent-encoded below the root of its client. */
export const hrefBelow = (root: string, path: string): string =>
  root +
  path
    .split('/')
    .filter(Boolean)
    .map((part) => encodeURIComponent(objectNameOf(part)))
    .join('/');

const lastPart = (href: string): string => {
  const part = href.split('/').filter(Boolean).at(-1) ?? '';
  try {
    return decodeURIComponent(part);
  } catch {
    return part;
  }
};

/** What a folder of a drive holds. */
export async function listFolder(client: DavClient, href: string): Promise<(DavItem & { readonly name: string })[]> {
  const { items } = await client.propfind(href, 1, props);
  const own = href.replace(/\/*$/, '/');
  return items
    .filter((i) => i.href.replace(/\/*$/, '/') !== own)
    .map((i) => ({ ...i, href: i.folder ? i.href.replace(/\/*$/, '/') : i.href, name: lastPart(i.href) }));
}

/** Takes the files of a person or a site: those with the ETag they had are not read. Throws SourceError. */
export async function captureDrive(
  out: MemberWriting,
  tenant: Tenant,
  member: TenantMember,
  top: string,
  base: TreeEntry | undefined,
): Promise<TreeEntry> {
  const client = openDrive(tenant, member, out.ctx.stopped);
  client.onWait = (ms) => {
    out.note('PATIENCE', top, `the server asks to wait ${Math.ceil(ms / 1000)} s`);
  };
  try {
    return await new DriveCapture(out, client).folder(client.root, top, top, base, 0);
  } finally {
    await client.close();
  }
}

class DriveCapture {
  constructor(
    private readonly out: MemberWriting,
    private readonly client: DavClient,
  ) {}

  async folder(href: string, path: string, name: string, base: TreeEntry | undefined, depth: number): Promise<TreeEntry> {
    const { out } = this;
    out.goOn();
    if (depth > mostDepth) throw new SourceError('TENANT_FAILED', 'folders lie in folders without end');
    const items = await listFolder(this.client, href);
    const earlier = new Map((await out.before(base)).map((e) => [e.name, e]));
    const entries: TreeEntry[] = [];
    for (const item of items) {
      const own = driveName(item.name);
      const at = joinPath(path, own);
      if (out.leftOut(at, item.folder)) continue;
      const before = earlier.get(own);
      try {
        entries.push(item.folder ? await this.folder(item.href, at, own, before, depth + 1) : await this.file(item, own, before));
      } catch (error) {
        if (!(error instanceof SourceError) || error.code === 'TENANT_AWAY') throw error;
        // it was moved or removed since its folder was listed
        if (error.code === 'TENANT_GONE') continue;
        out.warn('FILE_UNREAD', at, error.message, true);
        entries.push(before && !item.folder ? { ...before, unread: true } : { ...out.unread(own), kind: item.folder ? 'folder' : 'file' });
      }
      await out.passed();
    }
    return out.folder(name, entries, { path: href });
  }

  private async file(item: DavItem, name: string, before: TreeEntry | undefined): Promise<TreeEntry> {
    const { out, client } = this;
    const facts = before && itemFacts(before);
    if (before && facts?.type === 'file' && item.etag !== '' && facts.etag === item.etag && before.size === item.size)
      return out.reused(before, undefined);
    const { etag, pieces } = await client.read(item.href);
    const { sum: _, ...stored } = await out.streamed(pieces);
    return out.item(name, stored, item.mtime || null, { type: 'file', href: item.href, etag: etag || item.etag });
  }
}
