import fs from 'node:fs';
import { Harness, policyFor } from '../tests/support/harness';
import type { Kept } from './result';

const folders = 40;
const nights = 4;
const clockTicks = 100;

/** How many backups of small folders, one file of three changed, a mover ends in a minute, and what each takes of its processor. */
export async function taskBench(keeps: (k: Kept) => void): Promise<void> {
  const h = await Harness.start({ claimWaitMs: 5000 });
  try {
    const admin = await h.as('administrator');
    const connected: Awaited<ReturnType<Harness['connect']>>[] = [];
    for (let i = 0; i < folders; i++) connected.push(await h.connect(admin, `folder-${i}`));
    const night = async (n: number) => {
      for (const { source } of connected)
        for (const name of n === 0 ? ['one', 'two', 'three'] : ['two']) fs.writeFileSync(`${source}/${name}`, `${name} of night ${n}`);
      const { runId } = await admin.call('runPolicy', { id: policyId, body: {} });
      await admin.ended(runId);
    };
    const ids = connected.map((c) => c.workloadId);
    const { id: policyId } = await admin.call('addPolicy', { body: policyFor(ids, connected[0]!.targetId) });
    await night(0);
    const [began, taken] = [performance.now(), processorMs(h.movers.get('mover-1')!.pid!)];
    for (let n = 1; n <= nights; n++) await night(n);
    const tasks = folders * nights;
    keeps({ bench: 'a small task, whole', found: (performance.now() - began) / tasks, below: 200, unit: 'ms' });
    keeps({
      bench: 'a small task, processor of the mover',
      found: (processorMs(h.movers.get('mover-1')!.pid!) - taken) / tasks,
      below: 100,
      unit: 'ms',
    });
  } finally {
    await h.stop();
  }
}

/** Processor time of a process so far, its threads included. */
function processorMs(pid: number): number {
  const words = fs.readFileSync(`/proc/${pid}/stat`, 'utf8').split(') ')[1]!.split(' ');
  return ((Number(words[11]) + Number(words[12])) * 1000) / clockTicks;
}
