/** What to do when something exists where an item is to be written. The default, `leave`, never replaces. */
export type ConflictRule = 'leave' | 'replace' | 'replaceIfOlder' | 'beside';

export interface Existing {
  readonly isFolder: boolean;
  /** Modification time, ns since the epoch. */
  readonly mtimeNs: bigint;
  /** True when content and kind equal the item to be written. */
  readonly identical: boolean;
}

export type RestoreAction = 'write' | 'merge' | 'leave' | 'same' | 'replace' | 'beside';

/**
 * The action for one item. Folders that meet folders are merged whatever the rule, as nothing is lost; an identical file is never written
 * again, which is also what lets an interrupted restore go on. A folder is never removed to make room for a file.
 */
export function decideConflict(
  rule: ConflictRule,
  item: { isFolder: boolean; mtimeNs: bigint },
  existing: Existing | undefined,
): RestoreAction {
  if (!existing) return 'write';
  if (item.isFolder && existing.isFolder) return 'merge';
  if (existing.identical) return 'same';
  if (rule === 'beside') return 'beside';
  if (rule === 'leave' || existing.isFolder) return 'leave';
  if (rule === 'replaceIfOlder') return existing.mtimeNs < item.mtimeNs ? 'replace' : 'leave';
  return 'replace';
}

/**
 * Name for an item put beside an existing one: "plan (restored 2026-11-22 2200).pdf", with a number from the second try on. Names are byte
 * strings; the result stays within `most` bytes (255 on the usual file systems), cutting the stem and never the ending.
 */
export function besideName(name: string, stamp: string, attempt: number, most = 255): string {
  const dot = name.lastIndexOf('.');
  const hasEnding = dot > 0 && name.length - dot <= 16;
  const ending = hasEnding ? name.slice(dot) : '';
  const mark = ` (restored ${stamp}${attempt > 1 ? ` ${attempt}` : ''})`;
  let stem = hasEnding ? name.slice(0, dot) : name;
  const room = Math.max(0, most - mark.length - ending.length);
  if (stem.length > room) {
    stem = stem.slice(0, room);
    while (stem.length && (stem.charCodeAt(stem.length - 1) & 0xc0) === 0x80) stem = stem.slice(0, -1);
    if (stem.length && stem.charCodeAt(stem.length - 1) >= 0xc0) stem = stem.slice(0, -1);
  }
  return stem + mark + ending;
}
