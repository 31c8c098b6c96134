import type { CartridgesNeeded, PointRef, RestorePlan } from '@lithodex/contract';
import { formatList } from '@lithodex/core';
import type { Deps } from '../deps';
import { ApiError } from '../../base/errors';
import type { ResolvedPick } from './resolve-picks';

const askMs = 30_000;
const are = (names: readonly string[]) => `${formatList(names)} ${names.length === 1 ? 'is' : 'are'}`;

/** Which cartridges a restore needs and which of them nobody has loaded; undefined when it needs none. */
export async function cartridgeCheck(deps: Deps, picks: readonly ResolvedPick[]): Promise<RestorePlan['checks'][number] | undefined> {
  const byPoint = new Map<string, ResolvedPick[]>();
  for (const pick of picks)
    if (pick.ref.target.place.kind === 'cartridges') byPoint.set(pick.point.id, [...(byPoint.get(pick.point.id) ?? []), pick]);
  const needed = new Map<string, boolean>();
  let [complete, elsewhere] = [true, true];
  for (const [first, ...others] of byPoint.values()) {
    const { ref } = first!;
    const paths = [first!, ...others].map((p) => p.path);
    const answer = await askNeeded(deps, ref, paths);
    if (!answer) {
      const text = 'The library of the cartridges can not be asked which of them are needed';
      return ref.others.length
        ? { level: 'fine', code: 'CARTRIDGES', text: `${text}; what can't be read there is read from another copy.` }
        : { level: 'look', code: 'CARTRIDGES_AWAY', text: `${text}. What is only there can not be brought back until it answers.` };
    }
    for (const { barcode, here } of answer.needed) needed.set(barcode, here);
    complete &&= answer.complete;
    elsewhere &&= ref.others.length > 0 || answer.needed.every((n) => n.here);
  }
  if (!needed.size) return undefined;
  const all = [...needed.keys()];
  const away = all.filter((barcode) => !needed.get(barcode));
  if (!away.length) return { level: 'fine', code: 'CARTRIDGES', text: `Read from ${formatList(all)}, in the library.` };
  if (elsewhere)
    return {
      level: 'fine',
      code: 'CARTRIDGES',
      text: `${are(away)} on the shelf; what is on ${away.length === 1 ? 'it' : 'them'} is read from another copy.`,
    };
  const more = complete ? '' : ' Others may be needed besides: that shows once it is there.';
  const text = `${are(away)} on the shelf. Put ${away.length === 1 ? 'it' : 'them'} into the library first; what is only there can not be brought back without.${more}`;
  return { level: 'look', code: 'CARTRIDGES_AWAY', text };
}

/** Undefined when the mover can't tell, as while the library is out of order. */
async function askNeeded(deps: Deps, point: PointRef, paths: string[]): Promise<CartridgesNeeded | undefined> {
  try {
    return await deps.movers.ask({ ask: 'cartridgesNeeded', point, paths }, askMs);
  } catch (error) {
    if (error instanceof ApiError && error.code === 'MOVER_FAILED') return undefined;
    throw error;
  }
}
