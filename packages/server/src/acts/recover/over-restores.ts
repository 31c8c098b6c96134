import type { MachineFacts } from '@lithodex/kinds';
import type { RestoreBody } from '@lithodex/contract';
import { fromJson } from '../../base/db/json';
import type { PlatformRow } from '../../records/systems/platform-rows';
import type { Deps } from '../deps';
import { askInventory } from '../estate/read-platform';
import { connectedHosts } from './connected-platform';
import { machinePicks, type MachinePick } from './machine-restores';
import type { ResolvedPick } from './resolve-picks';
import { refuse, trialWords, type Check, type RestorePlanner } from './restore-planner';

/** The machine that is written over. */
interface Under {
  readonly id: number;
  readonly name: string;
  readonly outer_id: string;
  readonly facts: unknown;
  readonly platform: PlatformRow;
}

/** Throws INVALID where that can't be. */
async function underOf(deps: Deps, { destination }: Pick<RestoreBody, 'destination'>): Promise<Under> {
  const id = destination.to === 'over' ? destination.workloadId : 0;
  const row = await deps
    .db('workload')
    .where({ id, kind: 'machine', gone_at: null })
    .first<(Omit<Under, 'platform'> & { source_id: number }) | undefined>('id', 'name', 'outer_id', 'facts', 'source_id');
  if (!row) throw refuse('body.destination.workloadId', 'There is no such machine.');
  return { ...row, platform: await connectedHosts(deps.db, row.source_id) };
}

async function onlyMachine(deps: Deps, picks: readonly ResolvedPick[]): Promise<MachinePick> {
  const [only, ...others] = await machinePicks(deps, picks);
  if (!only || others.length) throw refuse('body.picks', 'One machine goes over one: restore them one after the other.');
  return only;
}

/** The newest point of a machine on the target that the picks are read from, by which what differs is known without reading it. */
async function baseOf(deps: Deps, workloadId: number, pick: ResolvedPick): Promise<{ seriesId: string; taskId: string } | null> {
  const row = await deps
    .db('point as p')
    .join('series as s', 's.no', 'p.series_no')
    .where({ 'p.workload_id': workloadId, 'p.state': 'visible', 's.target_id': pick.ref.target.id, 's.method': 'files' })
    .orderBy('p.moment', 'desc')
    .first<{ series: string; point: string } | undefined>('s.id as series', 'p.id as point');
  return row ? { seriesId: row.series, taskId: row.point } : null;
}

/** A machine over another one that is there: how one that worked elsewhere meanwhile comes home. Only what differs is moved. */
export const overRestores: RestorePlanner = {
  async look(deps, body, picks) {
    const under = await underOf(deps, body);
    const { machine, files } = await onlyMachine(deps, picks);
    const { machines } = await askInventory(deps, under.platform);
    const now = machines.find((m) => m.id === under.outer_id);
    const checks: Check[] = [];
    const stop = (code: string, text: string) => checks.push({ level: 'stop', code, text });
    if (!now) stop('MACHINE_GONE', `${under.name} is not there any more. Bring it to the platform as a new machine.`);
    else {
      const goes = machine.disks.filter((d) => d.file !== '' && (files === null || files.includes(d.file)));
      for (const disk of goes) {
        const there = now.disks.find((d) => d.label === disk.label);
        if (there?.size !== disk.size)
          stop('DISK_DIFFERS', `${under.name} has no disk ${disk.label} of that size. Bring it to the platform as a new machine.`);
      }
      const stays = now.disks.filter((d) => !goes.some((g) => g.label === d.label)).map((d) => d.label);
      if (stays.length) checks.push({ level: 'look', code: 'DISK_STAYS', text: `${stays.join(', ')} of ${under.name} stays as it is.` });
      const then = body.start ? 'started again after' : 'and stays off after';
      const text = `${under.name} is ${now.running ? 'stopped, ' : ''}written over where it differs, ${then}: what was written on it since is lost.`;
      checks.push({ level: 'look', code: 'WRITTEN_OVER', text });
    }
    const base = await baseOf(deps, under.id, picks[0]!);
    checks.push({
      level: 'fine',
      code: base ? 'ONLY_CHANGED' : 'READ_WHOLE',
      text: base
        ? `What differs is known by the newest point of ${under.name}: only that is read and written.`
        : `No point of ${under.name} is on this target: its disks are read to know what differs.`,
    });
    const { location } = fromJson<MachineFacts>(under.facts);
    if (location && machine.location && location !== machine.location)
      checks.push({ level: 'look', code: 'LEAVES_PLACE', text: `${machine.name} leaves ${machine.location} for ${location}.` });
    return { goesTo: () => `${under.name}, over what is there${now ? ` on ${now.host}` : ''}`, checks };
  },

  async tasks(deps, body, picks) {
    const under = await underOf(deps, body);
    const { point, machine, files, size } = await onlyMachine(deps, picks);
    const base = await baseOf(deps, under.id, picks[0]!);
    return [
      {
        workloadId: point.workload_id,
        work: {
          type: 'restore' as const,
          picks: (files ?? ['']).map((path) => ({ pointId: point.id, path, to: '', base: '' })),
          to: {
            kind: 'machine' as const,
            platformId: under.platform.id,
            destination: { to: 'over' as const, machine: under.outer_id, start: body.start, base },
          },
          trial: body.trial,
          readFrom: picks[0]!.ref.target.id,
          expected: { items: files?.length ?? machine.disks.length, bytes: size },
        },
      },
    ];
  },

  /** The machine that is written over. */
  async rescue(deps, body, picks) {
    if (body.trial) return null;
    const under = await underOf(deps, body);
    const target = picks[0]!.ref.target.id;
    const row = await deps.db('target').where({ id: target, retired_to: null }).first<{ id: string } | undefined>('id');
    return row ? { workloadId: under.id, workload: under.name, targetId: row.id } : null;
  },

  rules: (body) => `${trialWords(body)}over another machine; what differs on its disks is overwritten`,
};
