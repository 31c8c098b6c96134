import { bytesOfText } from '@lithodex/core';
import type { From, FromOf, KindName, MachineFacts, TenantFacts, TenantMember, To } from '@lithodex/kinds';
import type { Knex } from 'knex';
import { fromJson } from '../../base/db/json';
import { insideAccount } from './inside-accounts';
import { platformRef, type PlatformRow } from './platform-rows';
import { shareRef, type ShareRow } from './share-rows';
import type { PlannedTo } from '../runs/planned-restore';
import type { Secrets } from '../../base/secrets';
import { applicationOfRow, bucketOfRow, databaseOfRow, fromOfRow, shareOfRow, tenantOfRow, type SystemRow } from './system-rows';

/** A workload with its source, as far as a mover has to know them. */
export interface WorkloadSource extends Pick<PlatformRow, 'address' | 'secret'> {
  readonly id: number;
  readonly name: string;
  readonly kind: KindName;
  readonly source_id: number;
  readonly source: string;
  readonly folder: Buffer;
  readonly read_as: string | null;
  readonly read_by: string | null;
  readonly cross_fs: 0 | 1;
  readonly whole_server: 0 | 1;
  readonly outer_id: string | null;
  readonly facts: unknown;
}

export async function sourceOf(trx: Knex.Transaction, workloadId: number): Promise<WorkloadSource> {
  return trx('workload as w')
    .join('source as s', 's.id', 'w.source_id')
    .where('w.id', workloadId)
    .first<WorkloadSource>(
      'w.id',
      'w.name',
      'w.kind',
      'w.outer_id',
      'w.facts',
      's.id as source_id',
      's.name as source',
      's.folder',
      's.read_as',
      's.read_by',
      's.cross_fs',
      's.whole_server',
      's.address',
      's.secret',
    );
}

async function folderOf(trx: Knex.Transaction, w: WorkloadSource): Promise<FromOf<'files'>> {
  const targets = await trx('target').whereNotNull('folder').select<{ folder: string }[]>('folder');
  return {
    kind: 'files',
    folder: w.folder.toString('latin1'),
    readAs: w.read_as,
    crossFileSystems: w.cross_fs === 1,
    wholeServer: w.whole_server === 1,
    targetFolders: targets.map((t) => bytesOfText(t.folder)),
  };
}

async function machineOf(trx: Knex.Transaction, secrets: Secrets, w: WorkloadSource): Promise<FromOf<'machine'>> {
  const { cluster, location } = fromJson<MachineFacts>(w.facts);
  return {
    kind: 'machine',
    platform: platformRef(secrets, { ...w, id: w.source_id }),
    id: w.outer_id!,
    cluster,
    location,
    inside: await insideAccount(trx, secrets, w.id),
    snapshot: null,
  };
}

const memberOf = ({ facts }: WorkloadSource): TenantMember => {
  const { type, login, name } = fromJson<TenantFacts>(facts);
  return { type, login, name };
};

/** Where a mover finds a workload, with what opens it. */
export async function fromOf(trx: Knex.Transaction, secrets: Secrets, workload: WorkloadSource): Promise<From> {
  if (workload.kind === 'files') return folderOf(trx, workload);
  if (workload.kind === 'machine') return machineOf(trx, secrets, workload);
  const row = { ...workload, id: workload.source_id };
  if (workload.kind === 'bucket') return bucketOfRow(secrets, row, workload.outer_id!);
  if (workload.kind === 'share') return shareOfRow(secrets, row, workload.outer_id!);
  if (workload.kind === 'application') return applicationOfRow(secrets, row, workload.outer_id!);
  return fromOfRow(secrets, row, workload.kind === 'tenant' ? { member: memberOf(workload) } : {});
}

/** Where a restore writes, with what opens it. */
export async function placeOf(trx: Knex.Transaction, secrets: Secrets, to: PlannedTo): Promise<To> {
  if ('platformId' in to) {
    const { platformId, ...kept } = to;
    const { destination } = kept;
    const rest =
      destination.to === 'inside'
        ? { ...kept, destination: { ...destination, account: await insideAccount(trx, secrets, destination.workloadId) } }
        : kept;
    return { ...rest, platform: platformRef(secrets, await trx('source').where({ id: platformId }).first<PlatformRow>()) };
  }
  if ('sourceId' in to) {
    const { sourceId, ...rest } = to;
    const row = await trx('source').where({ id: sourceId }).first<SystemRow>();
    if (rest.kind === 'bucket') return { ...rest, server: bucketOfRow(secrets, row, '').server };
    if (rest.kind === 'share') return { ...rest, server: shareOfRow(secrets, row, '').server };
    if (rest.kind === 'application') return { ...rest, server: applicationOfRow(secrets, row, '').server };
    return rest.kind === 'tenant'
      ? { ...rest, server: tenantOfRow(secrets, row, rest.destination.member).server }
      : { ...rest, server: databaseOfRow(secrets, row).server };
  }
  if ('share' in to && to.share) {
    const { shareId, folder } = to.share;
    return { ...to, share: { ref: shareRef(secrets, await trx('share').where({ id: shareId }).first<ShareRow>()), folder } };
  }
  const { share: _, ...plain } = to;
  return plain;
}
