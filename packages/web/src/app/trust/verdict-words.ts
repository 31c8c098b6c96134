import type { PointScanRow } from '@lithodex/contract';
import { countOf, formatMoment, type Verdict } from '@lithodex/core';

/** A verdict in a few words. */
export const verdictWords: Readonly<Record<Verdict, string>> = {
  unscanned: 'not scanned',
  nothing: 'nothing against it',
  clean: 'scanned clean',
  suspect: 'suspect',
  infected: 'infected',
};

/** How a verdict is marked: what is sound stays quiet. */
export const verdictLook: Readonly<Record<Verdict, '' | 'mute' | 'w' | 'f'>> = {
  unscanned: 'mute',
  nothing: 'mute',
  clean: '',
  suspect: 'w',
  infected: 'f',
};

/** What a scan said of a point, as a sentence. `zone`: of the person. */
export function verdictSentence({ verdict, scanned }: Pick<PointScanRow, 'verdict' | 'scanned'>, zone: string, now: number): string {
  if (!scanned) return 'not scanned: nobody knows anything for or against it';
  const by = `by the rules of ${formatMoment(scanned.rulesAt, zone, now)}`;
  const unseen = scanned.notLooked ? `, ${countOf(scanned.notLooked, 'item')} could not be looked into` : '';
  if (verdict === 'infected' || verdict === 'suspect') {
    const said = [
      scanned.infected && `${countOf(scanned.infected, 'item')} infected`,
      scanned.suspect && `${countOf(scanned.suspect, 'item')} suspect`,
    ];
    return `${said.filter(Boolean).join(', ')} ${by}${unseen}`;
  }
  return verdict === 'clean' ? `scanned clean ${by}` : `nothing against it ${by}${unseen}${unseen ? '' : '; newer ones have come since'}`;
}
