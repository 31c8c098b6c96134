import { escapePath, formatBytes, joinPath, nameFault } from '@lithodex/core';
import type { Inventory, MachinePoint, RestoreBody } from '@lithodex/contract';
import type { DataWay, MachineDestination } from '@lithodex/kinds';
import type { PointRow } from '../../records/catalog/points';
import { fromJson } from '../../base/db/json';
import type { Deps } from '../deps';
import { askInventory } from '../estate/read-platform';
import { platformRef, type PlatformRow } from '../../records/systems/platform-rows';
import { connectedHosts } from './connected-platform';
import { rescueOf } from './rescue';
import type { ResolvedPick } from './resolve-picks';
import { machineNames, refuse, trialWords, type Check, type LookBody, type Looked, type RestorePlanner } from './restore-planner';

/** A machine that is to come back, with the disks wanted of it. */
export interface MachinePick {
  readonly point: PointRow;
  readonly machine: MachinePoint;
  readonly outerId: string | null;
  /** Paths of the items of its disks; null for all of it. */
  readonly files: readonly string[] | null;
  /** Bytes at full size. */
  readonly size: number;
}

/** The picks as machines, each once. Throws INVALID for what is no machine or no part of one that can be brought back alone. */
export async function machinePicks(deps: Deps, picks: readonly ResolvedPick[]): Promise<MachinePick[]> {
  const byPoint = new Map<string, MachinePick>();
  for (const pick of picks) {
    const { point, path } = pick;
    if (point.machine === null) throw refuse('body.picks', 'Only machines go to a platform.');
    const machine = fromJson<MachinePoint>(point.machine);
    const disks = machine.disks.filter((d) => d.file !== '').map((d) => d.file);
    const files = path === '' ? null : disks.filter((file) => file === path || file.startsWith(`${path}/`));
    if (files?.length === 0) throw refuse('body.picks', `${escapePath(path)} can be downloaded, but not be put back alone.`);
    const known = byPoint.get(point.id);
    const both = files && known?.files ? [...new Set([...known.files, ...files])] : known && !known.files ? null : files;
    const size = machine.disks.filter((d) => d.file !== '' && (both === null || both.includes(d.file))).reduce((sum, d) => sum + d.size, 0);
    byPoint.set(point.id, { point, machine, files: both, size, outerId: known?.outerId ?? (await outerIdOf(deps, point.workload_id)) });
  }
  return [...byPoint.values()];
}

async function outerIdOf(deps: Deps, workloadId: number): Promise<string | null> {
  return (await deps.db('workload').where({ id: workloadId }).first<{ outer_id: string | null }>('outer_id')).outer_id;
}

const removesFirst = (destination: RestoreBody['destination']) => destination.to === 'original' && destination.removeFirst;

/** Where one machine goes, its exceptions being applied. */
function destinationOf(
  body: Pick<RestoreBody, 'destination' | 'start'>,
  pick: MachinePick,
): Extract<MachineDestination, { to: 'original' | 'new' }> {
  const { destination, start } = body;
  if (destination.to !== 'platform') return { to: 'original', start, now: pick.outerId, removeFirst: removesFirst(destination) };
  const own = destination.exceptions.find((e) => e.pointId === pick.point.id);
  return {
    to: 'new',
    name: own?.name ?? `${pick.machine.name}${destination.suffix}`,
    host: own?.host ?? destination.host,
    folder: destination.folder,
    storages: own?.storages ?? {},
    storage: own?.storage ?? destination.storage,
    networks: destination.networks ?? pick.machine.networks,
    start,
  };
}

/** The platform a machine goes to. Throws INVALID where there is none. */
async function platformOf(deps: Deps, body: Pick<RestoreBody, 'destination'>, pick: MachinePick): Promise<PlatformRow> {
  const { destination } = body;
  const id =
    destination.to === 'platform'
      ? destination.platformId
      : (await deps.db('workload').where({ id: pick.point.workload_id }).first<{ source_id: number }>('source_id')).source_id;
  return connectedHosts(deps.db, id);
}

/** What stands in the way of bringing machines back, asked of the platforms now, and where each goes in words. */
async function lookAtPlatforms(deps: Deps, body: LookBody, picks: readonly MachinePick[]): Promise<Looked> {
  const inventories = new Map<number, Inventory>();
  const ways = new Map<string, string>();
  const goesTo = new Map<string, string>();
  const checks: Check[] = [];
  const names = new Map<string, number>();
  const room = new Map<string, number>();
  for (const pick of picks) {
    const row = await platformOf(deps, body, pick);
    const inventory = inventories.get(row.id) ?? (await askInventory(deps, row));
    inventories.set(row.id, inventory);
    ways.set(row.name, wayText(platformRef(deps.secrets, row).way, row.name));
    const destination = destinationOf(body, pick);
    if (destination.to === 'original')
      goesTo.set(
        pick.point.id,
        destination.removeFirst ? madeAnew(pick, inventory, checks) : backInPlace(pick, inventory, destination.start, checks),
      );
    else {
      goesTo.set(pick.point.id, elsewhere(pick, inventory, destination, checks));
      names.set(destination.name, (names.get(destination.name) ?? 0) + 1);
      for (const disk of pick.machine.disks) {
        const storage = destination.storages[disk.label] ?? destination.storage;
        room.set(`${row.id} ${storage}`, (room.get(`${row.id} ${storage}`) ?? 0) + disk.size);
      }
    }
  }
  for (const text of ways.values()) checks.push({ level: 'fine', code: 'WAY', text });
  for (const [name, n] of names)
    if (n > 1)
      checks.push({ level: 'stop', code: 'NAME_TWICE', text: `${n} of the machines would be called ${name}. Give them other names.` });
  for (const [key, bytes] of room) checks.push(...roomCheck(inventories, key, bytes));
  return { goesTo: (pick) => goesTo.get(pick.point.id) ?? '', checks };
}

/** Throws INVALID for a part of a machine. */
function madeAnew({ machine, outerId, files }: MachinePick, { machines, clusters, storages }: Inventory, checks: Check[]): string {
  if (files !== null) throw refuse('body.picks', 'Only a whole machine is made anew.');
  const now = machines.find((m) => m.id === outerId);
  const stop = (code: string, text: string) => checks.push({ level: 'stop', code, text });
  if (now?.running) stop('MACHINE_RUNNING', `${now.name} runs. Stop it first: what runs is not removed.`);
  else if (now) {
    const kept = new Set(machine.disks.filter((d) => d.file !== '').map((d) => d.label));
    const lost = now.disks.filter((d) => !kept.has(d.label)).map((d) => d.label);
    const also = lost.length ? ` The point holds nothing of ${lost.join(', ')}.` : '';
    const text = `${now.name} is removed first with all its disks and snapshots, then made anew as it was: what was written since is lost, and should the restore break off there is no machine until it has been repeated.${also}`;
    checks.push({ level: 'look', code: 'REMOVED_FIRST', text });
  }
  if (machines.some((m) => m.id !== outerId && m.name === machine.name))
    stop('NAME_TAKEN', `Another machine is called ${machine.name} now. Restore it under another name.`);
  const cluster = clusters.find((c) => c.hosts.includes(machine.host));
  if (!cluster) stop('NO_HOST', `There is no host ${machine.host} any more.`);
  for (const name of new Set(machine.disks.map((d) => d.storage)))
    if (!storages.find((s) => s.name === name)?.hosts.includes(machine.host))
      stop('NO_STORAGE', `${machine.host} does not see the storage ${name} any more.`);
  return `${machine.name}, made anew on ${machine.host}`;
}

/** How the data of whole machines goes, and where that is changed. */
function wayText(way: DataWay, platform: string): string {
  const how =
    way === 'straight' ? 'straight to the storages that the mover sees, else over the network' : 'over the network, through the platform';
  return `The data goes ${how}; the page of ${platform} in the estate changes that.`;
}

function roomCheck(inventories: ReadonlyMap<number, Inventory>, key: string, bytes: number): Check[] {
  const [id, ...words] = key.split(' ');
  const name = words.join(' ');
  const storage = inventories.get(Number(id))?.storages.find((s) => s.name === name);
  if (!storage) return [];
  const free = Math.max(0, storage.capacity - storage.used);
  const text = `${name} has ${formatBytes(free)} free, the machines take up to ${formatBytes(bytes)} there`;
  return [{ level: free < bytes ? 'look' : 'fine', code: 'ROOM', text: `${text}.` }];
}

function backInPlace({ machine, outerId, point }: MachinePick, { machines }: Inventory, start: boolean, checks: Check[]): string {
  const now = machines.find((m) => m.id === outerId);
  if (!now) {
    checks.push({
      level: 'look',
      code: 'MACHINE_GONE',
      text: `${machine.name} is not there any more: it is made anew on ${machine.host}.`,
    });
    if (machines.some((m) => m.name === machine.name))
      checks.push({
        level: 'stop',
        code: 'NAME_TAKEN',
        text: `Another machine is called ${machine.name} now. Restore it under another name.`,
      });
    return `${machine.name}, made anew on ${machine.host}`;
  }
  const then = start ? ', and started again after' : ', and stays off after';
  if (now.running)
    checks.push({ level: 'look', code: 'MACHINE_RUNNING', text: `${now.name} runs: it is stopped, written over where it differs${then}.` });
  else checks.push({ level: 'fine', code: 'MACHINE_OFF', text: `${now.name} is off: it is written over where it differs.` });
  if (now.host !== machine.host)
    checks.push({
      level: 'look',
      code: 'MOVED',
      text: `${now.name} was on ${machine.host} and is on ${now.host} now. It goes back where it is now.`,
    });
  for (const disk of machine.disks) {
    const there = now.disks.find((d) => d.id === disk.id) ?? now.disks.find((d) => d.label === disk.label);
    if (disk.file !== '' && there?.size !== disk.size)
      checks.push({
        level: 'stop',
        code: 'DISK_DIFFERS',
        text: `The disk ${disk.label} of ${now.name} is not the one of then. Restore beside what is there.`,
      });
  }
  const left = machine.disks.filter((d) => d.file === '').map((d) => d.label);
  if (left.length)
    checks.push({
      level: 'look',
      code: 'DISK_LEFT_OUT',
      text: `Not in the point of ${new Date(point.moment).toISOString().slice(0, 10)}: ${left.join(', ')}.`,
    });
  return `${now.name}, in its place on ${now.host}`;
}

function elsewhere(
  { machine }: MachinePick,
  { clusters, storages, machines, naming }: Inventory,
  destination: Extract<MachineDestination, { to: 'new' }>,
  checks: Check[],
): string {
  const { name, host } = destination;
  const stop = (code: string, text: string) => checks.push({ level: 'stop', code, text });
  const cluster = clusters.find((c) => c.hosts.includes(host));
  if (!cluster) stop('NO_HOST', `There is no host ${host} any more.`);
  const missing = destination.networks.filter((n) => !cluster?.networks.includes(n));
  if (cluster && missing.length) stop('NO_NETWORK', `${host} has no network ${missing.join(', ')}. Choose one it has.`);
  const wanted = new Set(machine.disks.map((d) => destination.storages[d.label] ?? destination.storage));
  for (const storage of wanted)
    if (!storages.find((s) => s.name === storage)?.hosts.includes(host)) stop('NO_STORAGE', `${host} does not see the storage ${storage}.`);
  if (machines.some((m) => m.name === name)) stop('NAME_TAKEN', `There is a machine ${name} already. Choose another name.`);
  const fault = nameFault(name, { ...naming, ...machineNames });
  if (fault) stop('NAME_FORBIDDEN', `No machine can be called ${name} there: it ${fault}. Choose another name.`);
  const home = machine.location;
  if (!home || !cluster?.location)
    checks.push({
      level: 'look',
      code: 'PLACE_UNKNOWN',
      text: `Where ${home ? host : machine.name} is nobody said, so nobody knows whether the data leaves its place.`,
    });
  else if (cluster.location !== home)
    checks.push({ level: 'look', code: 'LEAVES_PLACE', text: `${machine.name} leaves ${home} for ${cluster.location}.` });
  if (machine.tags.length)
    checks.push({ level: 'fine', code: 'TAGS', text: `${name} gets the tags ${machine.tags.join(', ')}: policies by tag protect it too.` });
  return joinPath(destination.folder.replace(/^\//, ''), `${name} on ${host}`);
}

/** Machines, back in their place or as new ones beside what there is. */
export const machineRestores: RestorePlanner = {
  look: async (deps, body, picks) => lookAtPlatforms(deps, body, await machinePicks(deps, picks)),

  /** One for each machine. */
  tasks: async (deps, body, picks) =>
    Promise.all(
      (await machinePicks(deps, picks)).map(async (pick) => ({
        workloadId: pick.point.workload_id,
        work: {
          type: 'restore' as const,
          picks: (pick.files ?? ['']).map((path) => ({ pointId: pick.point.id, path, to: '', base: '' })),
          to: {
            kind: 'machine' as const,
            platformId: (await platformOf(deps, body, pick)).id,
            destination: destinationOf(body, pick),
          },
          trial: body.trial,
          readFrom: body.readFrom,
          expected: { items: pick.files?.length ?? pick.machine.disks.length, bytes: pick.size },
        },
      })),
    ),

  /** A machine that is written over where it is. */
  async rescue(deps, body, picks) {
    return body.destination.to === 'original' && !body.trial ? rescueOf(deps, picks) : null;
  },

  rules(body) {
    const { destination } = body;
    const where =
      destination.to === 'platform'
        ? `to ${destination.host}, as new machines`
        : removesFirst(destination)
          ? 'to their place; the machines that have it are removed first'
          : 'to the machines they were taken of; what differs on their disks is overwritten';
    return `${trialWords(body)}${where}`;
  },
};
