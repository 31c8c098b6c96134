/** Where a copy stands. */
export interface Standing {
  /** What kind of media it is on. */
  readonly media: 'folder' | 'bucket' | 'cartridges';
  /** Name of the place; '' when it is not known. */
  readonly location: string;
  /** Nobody can change it now, whoever has the keys. */
  readonly locked: boolean;
}

export interface Spread {
  /** The original and its copies. */
  readonly copies: number;
  /** Kinds of media the copies are on, the disks of the source among them. */
  readonly media: number;
  /** Copies in another place than the original; undefined when a place that would decide it is not known. */
  readonly elsewhere: number | undefined;
  /** Copies that nobody can change now. */
  readonly locked: number;
}

/**
 * How widely the data of a workload is spread: the original counts as a copy on disk in its own place. Three copies on two kinds of media with one elsewhere survive the
 * loss of any one of them, and one that is locked survives somebody who wants them gone.
 */
export function spreadOf(standings: readonly Standing[], origin: string): Spread {
  const away = standings.filter((s) => s.location !== '' && origin !== '' && s.location !== origin).length;
  const unknown = standings.length > 0 && (origin === '' || standings.some((s) => s.location === ''));
  return {
    copies: 1 + standings.length,
    media: new Set(['folder', ...standings.map((s) => s.media)]).size,
    elsewhere: away === 0 && unknown ? undefined : away,
    locked: standings.filter((s) => s.locked).length,
  };
}

/** What is missing to three copies, two kinds of media, one elsewhere and one locked, in words; empty when nothing is. */
export function spreadGaps({ copies, media, elsewhere, locked }: Spread): string[] {
  return [
    ...(copies < 3 ? [`${3 - copies} more ${copies === 2 ? 'copy' : 'copies'}`] : []),
    ...(media < 2 ? ['another kind of media'] : []),
    ...(elsewhere === undefined ? ['a place that is not known'] : elsewhere < 1 ? ['a copy elsewhere'] : []),
    ...(locked < 1 ? ['a locked copy'] : []),
  ];
}
