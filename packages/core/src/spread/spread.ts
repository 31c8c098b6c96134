/** Where a copy stands. */
export interface Standing {
  /** What kind of media it is on. */
  readonly media: 'folder' | 'bucket';
  /** Name of the place; '' when it is not known. */
  readonly location: string;
}

export interface Spread {
  /** The original and its copies. */
  readonly copies: number;
  /** Kinds of media the copies are on, the disks of the source among them. */
  readonly media: number;
  /** Copies in another place than the original; undefined when a place that would decide it is not known. */
  readonly elsewhere: number | undefined;
}

/**
 * How widely the data of a workload is spread: the original counts as a copy on disk in its own place. Three copies on two kinds of media with one elsewhere survive the
 * loss of any one of them.
 */
export function spreadOf(standings: readonly Standing[], origin: string): Spread {
  const away = standings.filter((s) => s.location !== '' && origin !== '' && s.location !== origin).length;
  const unknown = standings.length > 0 && (origin === '' || standings.some((s) => s.location === ''));
  return {
    copies: 1 + standings.length,
    media: new Set(['folder', ...standings.map((s) => s.media)]).size,
    elsewhere: away === 0 && unknown ? undefined : away,
  };
}

/** What is missing to three copies, two kinds of media and one elsewhere, in words; empty when nothing is. */
export function spreadGaps({ copies, media, elsewhere }: Spread): string[] {
  return [
    ...(copies < 3 ? [`${3 - copies} more ${copies === 2 ? 'copy' : 'copies'}`] : []),
    ...(media < 2 ? ['another kind of media'] : []),
    ...(elsewhere === undefined ? ['a place that is not known'] : elsewhere < 1 ? ['a copy elsewhere'] : []),
  ];
}
