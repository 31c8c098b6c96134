import { textAt, type Resource } from '@lithodex/core';
import { z } from 'zod';
import { isReady } from './helper-pod';
import type { ClusterClient } from './cluster-client';
import { runInPod } from './pod-commands';

/** What a pod says of itself: a command, as a list of words in JSON or one word, before its volumes are frozen and after. */
const notes = {
  before: 'lithodex/before-snapshot',
  after: 'lithodex/after-snapshot',
  container: 'lithodex/container',
  limit: 'lithodex/limit-seconds',
} as const;
const usualSeconds = 30;
const mostSeconds = 600;
const Words = z.array(z.string().max(10_000)).min(1).max(100);

interface Wish {
  readonly pod: string;
  readonly container: string;
  readonly before: readonly string[] | undefined;
  readonly after: readonly string[] | undefined;
  readonly ms: number;
}

const note = (pod: Resource, name: string) => textAt(pod.metadata, 'annotations', name);

function commandOf(text: string): readonly string[] | undefined {
  if (text === '') return undefined;
  try {
    return Words.parse(JSON.parse(text));
  } catch {
    return [text];
  }
}

/** What the running pods of a namespace want done. */
export async function wishesOf(client: ClusterClient, namespace: string): Promise<Wish[]> {
  const wishes: Wish[] = [];
  for await (const pod of client.list(await client.kindNamed('Pod'), namespace)) {
    const [before, after] = [commandOf(note(pod, notes.before)), commandOf(note(pod, notes.after))];
    if ((!before && !after) || !isReady(pod)) continue;
    const containers = (pod['spec'] as { containers?: readonly { name?: string }[] } | undefined)?.containers ?? [];
    const seconds = Number(note(pod, notes.limit));
    wishes.push({
      pod: pod.metadata.name,
      container: note(pod, notes.container) || (containers[0]?.name ?? ''),
      before,
      after,
      ms: 1000 * (seconds > 0 ? Math.min(mostSeconds, seconds) : usualSeconds),
    });
  }
  return wishes;
}

export interface Quiet {
  pods: number;
  failed: number;
}

/** Brings pods to rest, freezes, and lets them go on: also where a command or the freezing fails. `say` is told what failed. */
export async function whileQuiet<T>(
  client: ClusterClient,
  namespace: string,
  say: (pod: string, why: string) => void,
  stopped: () => boolean,
  freeze: () => Promise<T>,
): Promise<{ readonly result: T; readonly quiet: Quiet }> {
  const wishes = await wishesOf(client, namespace);
  const quiet: Quiet = { pods: 0, failed: 0 };
  const run = async ({ pod, container, ms }: Wish, command: readonly string[] | undefined, stop: () => boolean): Promise<boolean> => {
    if (!command) return true;
    try {
      const { code, complaint } = await runInPod(client.cluster, { namespace, pod, container }, command, { mostMs: ms, stopped: stop });
      if (code === 0) return true;
      say(pod, `${command[0]} ended with ${code}${complaint && `: ${complaint}`}`);
    } catch (error) {
      if (stop()) throw error;
      say(pod, (error as Error).message);
    }
    quiet.failed++;
    return false;
  };
  const begun: Wish[] = [];
  try {
    for (const wish of wishes) {
      begun.push(wish);
      if ((await run(wish, wish.before, stopped)) && wish.before) quiet.pods++;
    }
    return { result: await freeze(), quiet };
  } finally {
    // whatever happens, nobody is left at rest
    for (const wish of begun.reverse()) await run(wish, wish.after, () => false);
  }
}
