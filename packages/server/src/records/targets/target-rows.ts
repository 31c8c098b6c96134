import type { ShownPlace, TargetPlace, TargetRef } from '@lithodex/contract';
import { fromJson } from '../../base/db/json';
import type { Secrets } from '../../base/secrets';

export interface TargetRow {
  readonly id: string;
  readonly name: string;
  /** Of a disk folder, or where a set of cartridges keeps what is at hand; null for a bucket. */
  readonly folder: string | null;
  /** Address of a bucket or of a set of cartridges as JSON, without what opens it; null for a disk folder. */
  readonly address: unknown;
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
  readonly newest_files: 0 | 1;
  readonly paces: unknown;
  readonly retired_to: string | null;
  /** Of the settings as they were written there last; null to have them written anew. */
  readonly settings_sum: string | null;
  readonly settings_at: number | null;
  readonly settings_held: 0 | 1;
  readonly created_at: number;
  /** Minutes between two readings of a store that another installation owns; null where it is ours. */
  readonly follows_every: number | null;
  readonly follow_due: number | null;
  readonly followed_at: number | null;
  /** Since when another installation owns it, as it was seen last; null where it is ours. */
  readonly owned_elsewhere: number | null;
  /** When installations that follow it read it last, as JSON. */
  readonly followed_by: unknown;
  /** When a key envelope was fetched last; null for never. It opens the target whatever key files were made since. */
  readonly envelope_at: number | null;
}

/** The columns that say where a target is. */
export type PlaceColumns = Pick<TargetRow, 'id' | 'folder' | 'address' | 'secret' | 'follows_every'>;
const purpose = (id: string) => `target ${id}`;

/** Where a target is, for people. */
export function shownPlace({ folder, address }: Pick<TargetRow, 'folder' | 'address'>): ShownPlace {
  return address === null ? { kind: 'folder', folder: folder! } : fromJson<ShownPlace>(address);
}

/** Two places are one when they read the same. */
export function placeText(p: ShownPlace): string {
  if (p.kind === 'folder') return p.folder;
  return p.kind === 'bucket' ? `${p.endpoint}/${p.bucket}/${p.prefix}` : `${p.endpoint} ${p.barcodes}`;
}

/** A target as movers need it. */
export function refOf(secrets: Secrets, row: PlaceColumns): TargetRef {
  const place = shownPlace(row);
  const owner = secrets.installation;
  const follows = row.follows_every !== null;
  if (place.kind === 'folder') return { id: row.id, place, owner, follows };
  const opener = JSON.parse(secrets.open(purpose(row.id), row.secret!)) as Record<string, string>;
  return { id: row.id, place: { ...place, ...opener } as TargetPlace, owner, follows };
}

/** The columns for a place; what opens it is sealed. */
export function placeColumns(secrets: Secrets, id: string, place: TargetPlace): Pick<TargetRow, 'folder' | 'address' | 'secret'> {
  if (place.kind === 'folder') return { folder: place.folder, address: null, secret: null };
  const seal = (opener: Record<string, string>) => secrets.seal(purpose(id), JSON.stringify(opener));
  if (place.kind === 'cartridges') {
    const { token, ...shown } = place;
    return { folder: place.folder, address: JSON.stringify(shown), secret: seal({ token }) };
  }
  const { accessKey, secretKey, ...shown } = place;
  return { folder: null, address: JSON.stringify(shown), secret: seal({ accessKey, secretKey }) };
}
