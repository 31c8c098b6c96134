import type { ShownPlace, TargetPlace, TargetRef } from '@lithodex/contract';
import { fromJson } from '../db/json';
import type { Secrets } from '../secrets';

export interface TargetRow {
  readonly id: string;
  readonly name: string;
  /** Of a disk folder; null for a bucket. */
  readonly folder: string | null;
  /** Address of a bucket as JSON, without its keys. */
  readonly bucket: unknown;
  readonly secret: Buffer | null;
  readonly location: string;
  readonly used: number | null;
  readonly free: number | null;
  readonly measured_at: number | null;
  readonly pruned_at: number | null;
  readonly verified_at: number | null;
  readonly trouble: string | null;
  readonly prices: unknown;
  readonly writers: number | null;
  readonly retired_to: string | null;
}

/** The columns that say where a target is. */
export type PlaceColumns = Pick<TargetRow, 'id' | 'folder' | 'bucket' | 'secret'>;
const purpose = (id: string) => `target ${id}`;

/** Where a target is, for people. */
export function shownPlace({ folder, bucket }: Pick<TargetRow, 'folder' | 'bucket'>): ShownPlace {
  return folder === null ? fromJson<ShownPlace>(bucket) : { kind: 'folder', folder };
}

/** A target as movers need it. */
export function refOf(secrets: Secrets, row: PlaceColumns): TargetRef {
  const place = shownPlace(row);
  if (place.kind === 'folder') return { id: row.id, place };
  const keys = JSON.parse(secrets.open(purpose(row.id), row.secret!)) as { accessKey: string; secretKey: string };
  return { id: row.id, place: { ...place, ...keys } };
}

/** The columns for a place; what opens it is sealed. */
export function placeColumns(secrets: Secrets, id: string, place: TargetPlace): Omit<PlaceColumns, 'id'> {
  if (place.kind === 'folder') return { folder: place.folder, bucket: null, secret: null };
  const { accessKey, secretKey, ...shown } = place;
  return {
    folder: null,
    bucket: JSON.stringify(shown),
    secret: secrets.seal(purpose(id), JSON.stringify({ accessKey, secretKey })),
  };
}
