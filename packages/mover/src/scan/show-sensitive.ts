import type { AnswerTo, PointRef } from '@lithodex/contract';
import { placesOf, shippedPatterns } from '@lithodex/core';
import { fileContent, findItem } from '@lithodex/connectors';
import { EngineError } from '@lithodex/engine';
import { walked } from '../work/look-inside-item';
import { openPoint } from '../work/open-point';
import type { Stores } from '../work/stores';
import { allWithin } from './parts-within';
import { textIn } from './text-of';

const mostShown = 20;
/** Characters that are shown around a finding. */
const around = 40;
const mostBytes = 64 << 20;

/** What stands in a file of a point by a pattern, uncovered, the first of it. Throws PATH_MISSING. */
export async function sensitiveIn(
  stores: Stores,
  { point, path, pattern }: { readonly point: PointRef; readonly path: string; readonly pattern: string },
): Promise<AnswerTo<'sensitiveIn'>> {
  const by = shippedPatterns.find((p) => p.id === pattern);
  const { tree, entry } = await findItem(await openPoint(stores, point), path, walked);
  if (!by || entry.kind !== 'file' || entry.unread) throw new EngineError('PATH_MISSING', 'no file that can be read');
  const pieces: Buffer[] = [];
  for await (const piece of fileContent(tree, entry, 0, Math.min(entry.size, mostBytes))) pieces.push(piece);
  const shown: AnswerTo<'sensitiveIn'> = [];
  for await (const { content } of allWithin(Buffer.concat(pieces))) {
    const text = (await textIn(content)) ?? '';
    for (const { from, to } of placesOf(text, by)) {
      if (shown.length >= mostShown) return shown;
      shown.push({ before: text.slice(Math.max(0, from - around), from), text: text.slice(from, to), after: text.slice(to, to + around) });
    }
  }
  return shown;
}
