import { mailStoreOn } from '@lithodex/core';
import { tenantTops, type ItemChanges, type Tenant, type TenantFrom, type TenantMember } from '@lithodex/kinds';
import type { OpenPoint } from '../connector';
import { findItem, type OpenedTrees } from '../find-item';
import { treeOf } from '../readable-tree';
import { SourceError } from '../source-error';
import { openDrive } from './capture-drive';
import { openGroupware } from './capture-groupware';
import { ChangesTold } from './changes-told';
import { fileChanges } from './file-changes';
import { closeMailbox, openMailbox } from './imap-account';
import { mailChanges } from './mail-changes';
import { titledChanges } from './titled-changes';

/** What is compared with what is there now. */
export interface ComparedWish {
  /** Words that all have to be in what is known of an item; '' for everything. */
  readonly about: string;
  /** Folders at the top of the point that are looked at; none for all. */
  readonly tops: readonly string[];
  /** A folder of the point that is looked at alone; '' for everything. */
  readonly path: string;
  /** What was only moved or marked, and what is new, is told as well. */
  readonly whole: boolean;
  /** Password of the member: their services are asked in their own name, not in that of the accounts that are kept; null for these. */
  readonly own: string | null;
}

/** The folder at the top of mailboxes and drives that a path lies in; a mail store as a whole is one of mail. */
const serviceOn = (path: string): string => (mailStoreOn(path) ? tenantTops.mail : (path.split('/')[0] ?? ''));

/** Services as a member signs in to them. */
function asThemselves(server: Tenant, { login }: TenantMember, password: string): Tenant {
  const { mail, groupware, drives, sites } = server;
  return {
    ...server,
    mail: mail && { ...mail, account: '', separator: '' },
    groupware: groupware && { ...groupware, account: login },
    drives: drives && { ...drives, account: login },
    sites: sites && { ...sites, account: login },
    secrets: { mail: password, groupware: password, drives: password, sites: password },
  };
}

/**
 * What a member had at a point and has no more, or has otherwise: told apart by what it is, so that what was only moved is not missing.
 * Throws SourceError when nobody is named, PATH_MISSING.
 */
export async function itemChanges(
  point: OpenPoint,
  { server: kept, member }: TenantFrom,
  { about, tops, path, whole, own }: ComparedWish,
  stopped: () => boolean,
  opened?: OpenedTrees,
): Promise<ItemChanges> {
  if (!member) throw new SourceError('TENANT_GONE', 'nobody is named');
  const server = own === null ? kept : asThemselves(kept, member, own);
  const told = new ChangesTold(about.trim(), whole, stopped);
  const one = path === '' ? undefined : await findItem(point, path, opened);
  const tree = one?.tree ?? treeOf(point.store);
  const entries = !one && point.top.folder ? await tree.trees.folder(point.top.folder.node) : [];
  /** What is looked at of a folder at the top: all of it, or the one folder below that is wanted. */
  const find = (top: string) => {
    if (tops.length && !tops.includes(top)) return undefined;
    if (one) return serviceOn(path) === top ? { entry: one.entry, at: path } : undefined;
    const entry = entries.find((e) => e.name === top);
    return entry && { entry, at: top };
  };
  const mail = find(tenantTops.mail);
  if (mail)
    await told.service(tenantTops.mail, async () => {
      const client = await openMailbox(server, member);
      try {
        await mailChanges(told, client, tree, mail.entry, mail.at);
      } finally {
        await closeMailbox(client);
      }
    });
  for (const kind of ['calendars', 'contacts'] as const) {
    const top = find(tenantTops[kind]);
    if (!top) continue;
    await told.service(tenantTops[kind], async () => {
      const client = openGroupware(server, member, stopped);
      try {
        await titledChanges(told, client, kind, tree, top.entry, top.at);
      } finally {
        await client.close();
      }
    });
  }
  for (const name of [tenantTops.drive, tenantTops.files]) {
    const top = find(name);
    if (!top) continue;
    await told.service(name, async () => {
      const client = openDrive(server, member, stopped);
      try {
        await fileChanges(told, client, tree, top.entry, top.at, name);
      } finally {
        await client.close();
      }
    });
  }
  return told.answer;
}
