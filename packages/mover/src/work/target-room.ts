import type { AnswerTo } from '@lithodex/contract';
import { followersOf, ownerOf, type Store } from '@lithodex/engine';

/** How full a target is, whether another installation than the one that asks owns it, and who follows it. */
export async function roomOf({ target, keys }: Store, asking: string): Promise<AnswerTo<'targetRoom'>> {
  const { used, free } = await target.room();
  const owner = await ownerOf(target, keys);
  const ownedElsewhere = owner && owner.installation !== asking ? owner.since : null;
  return { used, free, ownedElsewhere, followed: (await followersOf({ target, keys }, Date.now())).map((f) => f.at) };
}
