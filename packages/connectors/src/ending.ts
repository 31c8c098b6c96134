const acts = new Set<() => Promise<void>>();

/** Has something done when this thread ends: what it started and keeps is to end with it. Gives what takes that back. */
export function whenEnding(act: () => Promise<void>): () => void {
  acts.add(act);
  return () => acts.delete(act);
}

/** Ends what this thread started and keeps. */
export async function endOwn(): Promise<void> {
  await Promise.all([...acts].map((act) => act()));
}
