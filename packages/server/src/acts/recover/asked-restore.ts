import { countOf } from '@lithodex/core';
import { RestoreBody, type AskedItem } from '@lithodex/contract';

const mostName = 120;
const mostReason = 500;

/** The restore of what somebody of the estate asked for: to where it was, nowhere else. `of`: a word more in its name. */
export function restoreOfAsked(
  pointId: string,
  items: readonly AskedItem[],
  { rule, reason, of = '' }: { readonly rule: RestoreBody['rule']; readonly reason: string; readonly of?: string },
): RestoreBody {
  const what = items.length === 1 ? items[0]!.label.trim() : countOf(items.length, 'item');
  return RestoreBody.parse({
    name: `${what}${of}`.slice(0, mostName).trim() || 'Restore',
    picks: items.map(({ path }) => ({ pointId, path })),
    destination: { to: 'original' },
    rule,
    rescue: false,
    reason: reason.slice(0, mostReason),
  });
}
