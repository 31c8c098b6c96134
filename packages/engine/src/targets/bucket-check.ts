import { randomBytes } from 'node:crypto';
import { EngineError } from '../errors';
import { Bucket } from './bucket';
import type { BucketPlace } from './place';

/** One thing a target needs, and what kept it from being done. */
export interface Need {
  readonly right: string;
  readonly neededFor: string;
  /** '' when it works. */
  readonly problem: string;
}

/** What a trial of a bucket found. */
export interface BucketCheck {
  readonly needs: readonly Need[];
  readonly holdsStore: boolean;
  /** Whether the bucket can lock objects; then the rights for that are among the needs. */
  readonly locks: boolean;
}

/**
 * Tries everything a target needs on an object of its own below `check/`, which it removes again: listing, writing, reading, reading a part, creating only where nothing is,
 * deleting. Throws TARGET_MISSING when the service does not answer or has no such bucket.
 */
export async function checkBucket(asked: BucketPlace): Promise<BucketCheck> {
  const place = { ...asked, locks: await offersLocks(asked) };
  const bucket = new Bucket(place);
  const name = `check/${randomBytes(9).toString('hex')}`;
  const data = randomBytes(64);
  const needs: Need[] = [];
  const need = async (right: string, neededFor: string, act: () => Promise<unknown>) => {
    let problem = '';
    try {
      await act();
    } catch (error) {
      if (!(error instanceof EngineError) || error.code === 'TARGET_MISSING') throw error;
      problem = error.message;
    }
    needs.push({ right, neededFor, problem });
  };
  const mustBe = (fine: boolean, why: string) => {
    if (!fine) throw new EngineError('TARGET_REFUSED', why);
  };

  let names: string[] = [];
  await need('List objects', 'to find points, index and what can be pruned', async () => {
    names = await bucket.list('');
  });
  await need('Write objects', 'to store points', () => bucket.put(name, data));
  await need('Read objects', 'to restore and to verify', async () => {
    mustBe((await bucket.read(name)).equals(data), 'what was written came back changed');
  });
  await need('Read parts of objects', 'to restore single files without reading whole packs', async () => {
    mustBe((await bucket.readRange(name, 10, 20)).equals(data.subarray(10, 30)), 'another part came back than was asked for');
  });
  await need('Create only where nothing is', 'so that of two movers at one task only one can commit', async () => {
    mustBe(!(await bucket.putExclusive(name, data)), 'the service ignores the condition and replaces what is there');
  });
  if (place.locks)
    await need('Lock objects', 'so that nobody can remove points before a date', () =>
      bucket.mayLock(`check/${randomBytes(9).toString('hex')}`),
    );
  await need('Delete objects', 'to give back room when points have expired', async () => {
    await bucket.remove(name);
    mustBe(!(await bucket.list('check/')).includes(name.slice('check/'.length)), 'what was deleted is still listed');
  });
  return { needs, holdsStore: names.includes('lithodex-store.json'), locks: place.locks };
}

/** Whether the bucket was made with object lock. A service that does not know of it has none. */
async function offersLocks(place: BucketPlace): Promise<boolean> {
  try {
    return await new Bucket(place).hasObjectLock();
  } catch (error) {
    if (error instanceof EngineError && error.code === 'TARGET_MISSING') throw error;
    return false;
  }
}
