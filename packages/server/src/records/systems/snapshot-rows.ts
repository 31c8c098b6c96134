import type { MachinePoint, Point, PointRef } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJson } from '../../base/db/json';
import type { Secrets } from '../../base/secrets';
import type { PointRow } from '../catalog/points';
import { platformRef, type PlatformRow } from './platform-rows';
import { storageId } from './storage-id';

/** A machine in a snapshot that its storage keeps. */
export interface SnapshotRow {
  /** What it is known by as a point. */
  readonly id: string;
  readonly workload_id: number;
  readonly outer_machine: string;
  readonly machine: unknown;
  /** Bytes its disks have there. */
  readonly bytes: number;
  readonly source_id: number;
  readonly platform: string;
  readonly storage: string;
  /** What the storage calls the snapshot, and what those do who took it. */
  readonly outer_id: string;
  readonly name: string;
  readonly taken_at: number;
  /** When the storage had it no more. */
  readonly gone_at: number | null;
}

function rows(db: Knex): Knex.QueryBuilder {
  return db('snapshot_machine as m')
    .join('storage_snapshot as n', 'n.no', 'm.snapshot_no')
    .join('source as s', 's.id', 'n.source_id')
    .select(
      'm.id',
      'm.workload_id',
      'm.outer_machine',
      'm.machine',
      'm.bytes',
      'n.source_id',
      's.name as platform',
      'n.storage',
      'n.outer_id',
    )
    .select('n.name', 'n.taken_at', 'n.gone_at');
}

/** Those of these ids that storages keep, or kept lately. */
export function snapshotRows(db: Knex, ids: readonly string[]): Promise<SnapshotRow[]> {
  return rows(db).whereIn('m.id', ids) as Promise<SnapshotRow[]>;
}

/** Those of a workload that are kept, the oldest first. */
export function snapshotsOf(db: Knex, workloadId: number): Promise<SnapshotRow[]> {
  return rows(db).where('m.workload_id', workloadId).whereNull('n.gone_at').orderBy('n.taken_at') as Promise<SnapshotRow[]>;
}

/** A machine in a snapshot as a row of the catalog, in which it has none: nothing of it is catalogued but what is said of the machine. */
export function pointRowOf({ id, workload_id, machine, bytes, taken_at, storage, source_id }: SnapshotRow): PointRow {
  const disks = fromJson<MachinePoint>(machine).disks.filter((d) => d.file !== '').length;
  return {
    id,
    workload_id,
    machine,
    bytes,
    moment: taken_at,
    onStorage: { storage, sourceId: source_id },
    series_no: 0,
    ordinal: 0,
    run_id: 0,
    policy_id: null,
    rule_no: 1,
    kind: 'full',
    builds_on: null,
    state: 'visible',
    items: disks + 1,
    files: disks + 1,
    read_bytes: 0,
    fresh: 0,
    stored: 0,
    added: 0,
    changed: 0,
    removed: 0,
    warnings: 0,
    complete: 1,
    share: 0,
    unusual: 0,
    counts: null,
    signs: null,
    said: null,
    reasons: '[]',
    suspect: 0,
    held: 0,
    held_why: '',
    keep_own: null,
    extra: 0,
    expired_at: null,
    names_inside: 0,
    facts: null,
  };
}

/** The same as the API gives it. */
export function snapshotPoint(row: SnapshotRow): Point {
  const { id, workload_id, taken_at, storage, platform, name, source_id } = row;
  const { items, files, bytes } = pointRowOf(row);
  const place = storageId(source_id, storage);
  const counts = { read: 0, fresh: 0, stored: 0, added: 0, changed: 0, removed: 0, warnings: 0, unusual: 0 };
  const copy = { targetId: place, target: storage, madeAt: taken_at, lockedUntil: null, keepUntil: null };
  return {
    id,
    seriesId: place,
    workloadId: workload_id,
    runId: null,
    moment: taken_at,
    kind: 'snapshot',
    copies: [{ ...copy, keepWhy: `kept by the storage, on ${platform}: lost with it` }],
    policy: null,
    buildsOn: null,
    items,
    files,
    bytes,
    ...counts,
    complete: true,
    reasons: [],
    suspect: false,
    held: false,
    heldWhy: '',
    expired: false,
    onStorage: { storage, platform, name },
    machine: fromJson<MachinePoint>(row.machine),
    facts: null,
  };
}

/** References to machines in snapshots, also such that have gone lately, as movers need them, with what opens their platform. */
export async function snapshotRefs(db: Knex, secrets: Secrets, ids: readonly string[]): Promise<PointRef[]> {
  const found = await snapshotRows(db, ids);
  const sources = await db('source')
    .whereIn('id', [...new Set(found.map((r) => r.source_id))])
    .whereNotNull('secret')
    .select<PlatformRow[]>();
  const platforms = new Map(sources.map((s) => [s.id, platformRef(secrets, s)]));
  return found.flatMap((row): PointRef[] => {
    const platform = platforms.get(row.source_id);
    if (!platform) return [];
    const { cluster, location } = fromJson<MachinePoint>(row.machine);
    const at = { storage: row.storage, id: row.outer_id };
    const place = { kind: 'snapshot' as const, platform, at, machine: row.outer_machine, cluster, location };
    const id = storageId(row.source_id, row.storage);
    return [{ taskId: row.id, seriesId: id, target: { id, place, owner: secrets.installation }, others: [], root: '' }];
  });
}
