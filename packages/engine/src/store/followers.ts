import { decodeList, encodeList } from '../format/sealed-list';
import type { KeySet } from '../keys/key-set';
import type { Target } from '../targets/target';
import { isLoss } from './loss';

/** An installation that reads a store it does not own. */
export interface Follower {
  readonly installation: string;
  /** When it read the store last, ms. */
  readonly at: number;
}

interface Followed {
  readonly target: Target;
  readonly keys: KeySet;
}

const folder = 'followers/';
/** Of one that was not heard of for so long nothing is said any more. */
const forgottenMs = 92 * 86_400_000;
/** More are not looked at. */
const most = 100;

/** Tells the owner of a store that an installation follows it. */
export async function noteFollower({ target, keys }: Followed, installation: string, now: number): Promise<void> {
  await target.put(folder + installation, encodeList(keys, 'followers', installation, [String(now)]));
}

/** Who follows a store, the last heard first. What can not be read is passed over: it keeps nothing. */
export async function followersOf({ target, keys }: Followed, now: number): Promise<Follower[]> {
  const found: Follower[] = [];
  for (const installation of (await target.list(folder)).slice(0, most))
    try {
      const [at] = decodeList(keys, 'followers', installation, await target.read(folder + installation));
      found.push({ installation, at: Number(at) });
    } catch (error) {
      if (!isLoss(error)) throw error;
    }
  return found.filter((f) => f.at > now - forgottenMs).sort((a, b) => b.at - a.at);
}

/** Ends what {@link noteFollower} told. */
export async function forgetFollower(target: Target, installation: string): Promise<void> {
  await target.remove(folder + installation);
}
