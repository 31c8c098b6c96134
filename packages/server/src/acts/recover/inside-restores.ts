import { absoluteBelow, bytesOfText, countOf, escapePath, pathFaults, windowsNames } from '@lithodex/core';
import type { MachinePoint } from '@lithodex/contract';
import type { InsideLook } from '@lithodex/kinds';
import { DateTime } from 'luxon';
import { fromJson } from '../../base/db/json';
import { insideAccount } from '../../records/systems/inside-accounts';
import { platformRef, type PlatformRow } from '../../records/systems/platform-rows';
import { openingItems } from '../../records/recover/inside-path';
import { askInventory } from '../estate/read-platform';
import type { Deps } from '../deps';
import { connectedHosts } from './connected-platform';
import { conflictCheck } from './file-restores';

import type { ResolvedPick } from './resolve-picks';
import { countChecks, expectedOf, refuse, ruleWords, trialWords, type Check, type LookBody, type RestorePlanner } from './restore-planner';

/** Files that are looked for inside the machine before. */
const mostLooked = 500;
const lookMs = 60_000;

/** A machine that picks go into. */
interface Machine {
  readonly workloadId: number;
  readonly name: string;
  readonly outerId: string | null;
  readonly platform: PlatformRow;
  readonly picks: readonly ResolvedPick[];
  /** Absolute folder inside (text) that all go to; null for where each was. */
  readonly folder: string | null;
  readonly keepPath: boolean;
}

/** A pick with its absolute place inside; '' where nobody knows it. */
interface Placed {
  readonly pick: ResolvedPick;
  readonly to: string;
}

interface MachineRow {
  readonly id: number;
  readonly name: string;
  readonly outer_id: string | null;
  readonly source_id: number;
}

/** The machines that the picks go to. Throws INVALID for what lies in no disk, and where a platform is not connected. */
async function machinesOf(deps: Deps, { destination }: LookBody, picks: readonly ResolvedPick[]): Promise<Machine[]> {
  if (picks.some((p) => !p.inside))
    throw refuse('body.picks', 'Only what lies inside disks goes into a machine that runs; whole disks and machines go to a platform.');
  const to = destination.to === 'inside' ? destination : null;
  const ids = to ? [to.workloadId] : [...new Set(picks.map((p) => p.point.workload_id))];
  return Promise.all(
    ids.map(async (id) => {
      const row = await deps.db('workload').where({ id, kind: 'machine' }).first<MachineRow | undefined>();
      if (!row) throw refuse('body.destination', 'There is no such machine.');
      const platform = await connectedHosts(deps.db, row.source_id);
      return {
        workloadId: id,
        name: row.name,
        outerId: row.outer_id,
        platform,
        picks: to ? picks : picks.filter((p) => p.point.workload_id === id),
        folder: to?.folder ?? null,
        keepPath: to?.keepPath ?? true,
      };
    }),
  );
}

/** The disk a pick lies in by its id, its volume, and the path in that. */
function placeInDisk({ point, path }: ResolvedPick): { readonly disk: string; readonly volume: string; readonly rest: string } {
  const file = openingItems(point).find((item) => path.startsWith(`${item}/`)) ?? '';
  const [volume = '', ...rest] = path.slice(file.length + 1).split('/');
  const disk = fromJson<MachinePoint>(point.machine).disks.find((d) => d.file === file);
  return { disk: disk?.id ?? '', volume, rest: rest.join('/') };
}

function placed({ picks, folder, keepPath }: Machine, mounts: InsideLook['mounts']): Placed[] {
  return picks.map((pick) => {
    const { disk, volume, rest } = placeInDisk(pick);
    if (folder !== null) return { pick, to: absoluteBelow(bytesOfText(folder.replace(/(.)\/+$/, '$1')), keepPath ? rest : pick.to) };
    const mount = mounts.find((m) => m.disk === disk && m.volume === volume);
    if (!mount) return { pick, to: '' };
    return { pick, to: absoluteBelow(bytesOfText(mount.at), rest) };
  });
}

function ask(
  deps: Deps,
  machine: Machine,
  account: Awaited<ReturnType<typeof insideAccount>>,
  places: { path: string; mtimeNs: string }[],
): Promise<InsideLook> {
  const platform = platformRef(deps.secrets, machine.platform);
  return deps.movers.ask({ ask: 'insideFiles', platform, machine: machine.outerId ?? '', account, places }, lookMs);
}

/** A machine that lets us in, with where each pick goes in it. */
interface WayIn {
  readonly account: Awaited<ReturnType<typeof insideAccount>>;
  readonly places: readonly Placed[];
  /** The system inside, as the platform calls it. */
  readonly system: string;
}
type Stop = Check & { readonly level: 'stop' };

/** The way into a machine, asked of it now; or what stands in it. */
async function wayInto(deps: Deps, machine: Machine): Promise<WayIn | Stop> {
  const stop = (code: string, text: string): Stop => ({ level: 'stop', code, text });
  const { name, outerId } = machine;
  const now = (await askInventory(deps, machine.platform)).machines.find((m) => m.id === outerId);
  if (!now) return stop('MACHINE_GONE', `${name} is not on its platform any more. Restore to a folder, or bring the machine back first.`);
  if (!now.running) return stop('MACHINE_OFF', `${name} is off: files go into a machine that runs. Start it, or restore to a folder.`);
  const account = await insideAccount(deps.db, deps.secrets, machine.workloadId);
  if (!account && !now.helper)
    return stop(
      'NO_WAY_IN',
      `Nothing inside ${name} can take files: it has no helper, and no account inside is known (Estate, the machine, Inside).`,
    );
  const { mounts, refused } = await ask(deps, machine, account, []);
  if (refused) return stop('REFUSED_INSIDE', refused);
  const places = placed(machine, mounts);
  const lost = places.find((p) => p.to === '');
  if (!lost) return { account, places, system: now.system };
  return stop(
    'NOT_MOUNTED',
    `Nobody knows where ${escapePath(lost.pick.path)} was mounted inside ${name}. Name a folder of the machine instead.`,
  );
}

/** What a restore would meet in a machine that lets us in. */
async function meets(deps: Deps, body: LookBody, machine: Machine, { account, places, system }: WayIn): Promise<Check[]> {
  const files = places.flatMap(({ pick, to }) =>
    (pick.inside?.files ?? []).map((f) => ({ path: absoluteBelow(to, f.path), mtimeNs: f.mtimeNs })),
  );
  const looked = files.slice(0, mostLooked);
  const complete = looked.length === files.length && places.every(({ pick }) => pick.inside?.whole);
  const { exist, newer } = await ask(deps, machine, account, looked);
  const by = account ? `under the account ${account.name}` : 'by the helper inside';
  return [
    { level: 'fine', code: 'WAY_IN', text: `${machine.name} runs; files are put in ${by}.` },
    ...namingCheck(
      machine.name,
      system,
      files.map((f) => f.path),
    ),
    conflictCheck(body, { exist, newer, looked: looked.length, complete, free: 0, writable: true, nearest: '' }),
  ];
}

/** What of the names the system inside can't have. */
function namingCheck(machine: string, system: string, paths: readonly string[]): Check[] {
  if (!/^windows/i.test(system)) return [];
  const faults = pathFaults(
    paths.map((path) => Buffer.from(path, 'latin1').toString()),
    windowsNames,
  );
  const [first] = faults;
  if (!first) return [];
  const others = faults.length > 1 ? `, ${countOf(faults.length - 1, 'other')} as well` : '';
  const text = `${machine} can't have all of these names: ${first.path} ${first.fault}${others}. These would be told as not put; a folder of a mover or a share takes them.`;
  return [{ level: 'look', code: 'NAMES_FORBIDDEN', text }];
}

/** Files that lay inside disks, put into machines that run: those they were in, or another. */
export const insideRestores: RestorePlanner = {
  async look(deps, body, picks) {
    const checks: Check[] = [...countChecks(picks)];
    const goesTo = new Map<ResolvedPick, string>();
    for (const machine of await machinesOf(deps, body, picks)) {
      const way = await wayInto(deps, machine);
      if ('level' in way) {
        checks.push(way);
        continue;
      }
      checks.push(...(await meets(deps, body, machine, way)));
      for (const { pick, to } of way.places) goesTo.set(pick, `${machine.name}: ${escapePath(to)}`);
    }
    return { goesTo: (pick) => goesTo.get(pick) ?? '', checks };
  },

  tasks: async (deps, body, picks) =>
    Promise.all(
      (await machinesOf(deps, body, picks)).map(async (machine) => {
        const way = await wayInto(deps, machine);
        if ('level' in way) throw refuse('body.destination', way.text);
        const newest = Math.max(...machine.picks.map((p) => p.point.moment));
        return {
          workloadId: machine.workloadId,
          work: {
            type: 'restore' as const,
            picks: way.places.map(({ pick, to }) => ({ pointId: pick.point.id, path: pick.path, to: to.slice(1), base: '/' })),
            to: {
              kind: 'machine' as const,
              platformId: machine.platform.id,
              destination: {
                to: 'inside' as const,
                workloadId: machine.workloadId,
                machine: machine.outerId ?? '',
                account: null,
                rule: body.rule,
                stamp: DateTime.fromMillis(newest, { zone: deps.config.zone }).toFormat('yyyy-MM-dd HHmm'),
              },
            },
            trial: body.trial,
            readFrom: body.readFrom,
            expected: expectedOf(machine.picks),
          },
        };
      }),
    ),

  rules({ destination, rule, ...body }) {
    const where =
      destination.to === 'inside'
        ? `into a machine that runs, below ${destination.folder}`
        : 'into the machines they were in, while they run';
    return `${trialWords({ trial: body.trial })}${where}; ${ruleWords[rule]}`;
  },
};
