import { cloudMonth, countOf, fittingSizes, formatBytes, formatPrice, grouped, nameFault } from '@lithodex/core';
import type { Inventory, RestoreBody } from '@lithodex/contract';
import type { CloudDestination, CloudOffers, MachineFacts } from '@lithodex/kinds';
import { fromJson } from '../../base/db/json';
import { familyOf, type PlatformRow } from '../../records/systems/platform-rows';
import type { RestorePlan } from '../../records/runs/planned-restore';
import type { Deps } from '../deps';
import { askInventory } from '../estate/read-platform';
import { connectedPlatform } from './connected-platform';
import { machinePicks, type MachinePick } from './machine-restores';
import type { ResolvedPick } from './resolve-picks';
import { machineNames, refuse, trialWords, type Check, type RestorePlanner } from './restore-planner';

type Place = Extract<RestoreBody['destination'], { to: 'cloud' }>;
type Body = Pick<RestoreBody, 'destination' | 'start' | 'leavesPlace'>;
type Region = CloudOffers['regions'][number];

/** A machine with where it goes; `need`: what it had, 0 where nobody knows. */
interface Going {
  readonly pick: MachinePick;
  readonly need: { readonly processors: number; readonly memory: number };
  readonly to: CloudDestination;
}

function placeOf({ destination }: Pick<RestoreBody, 'destination'>): Place {
  if (destination.to !== 'cloud') throw refuse('body.destination', 'It is not to go into a cloud.');
  return destination;
}

async function cloudOf(deps: Deps, { platformId }: Place): Promise<{ row: PlatformRow; inventory: Inventory; offers: CloudOffers }> {
  const row = await connectedPlatform(deps.db, platformId);
  if (familyOf(row) !== 'cloud') throw refuse('body.destination', `${row.name} is no cloud.`);
  const inventory = await askInventory(deps, row);
  if (!inventory.cloud) throw refuse('body.destination', `${row.name} does not say what can be had there.`);
  return { row, inventory, offers: inventory.cloud };
}

/** Where each machine goes, its exceptions being applied; a size of '' where none fits. Throws INVALID for parts of machines. */
async function goingOf(deps: Deps, body: Body, offers: CloudOffers, picks: readonly ResolvedPick[]): Promise<Going[]> {
  const place = placeOf(body);
  const machines = await machinePicks(deps, picks);
  return Promise.all(
    machines.map(async (pick) => {
      if (pick.files !== null) throw refuse('body.picks', 'A cloud takes whole machines; disks can be left out.');
      const row = await deps.db('workload').where({ id: pick.point.workload_id }).first<{ facts: unknown }>('facts');
      const { processors, memory } = fromJson<MachineFacts>(row.facts);
      const own = place.exceptions.find((e) => e.pointId === pick.point.id);
      const to: CloudDestination = {
        to: 'cloud',
        name: own?.name ?? `${pick.machine.name}${place.suffix}`,
        region: place.region,
        size: own?.size ?? place.size ?? fittingSizes(offers.sizes, { processors, memory })[0]?.name ?? '',
        network: place.network,
        groups: place.groups,
        publicAddress: place.publicAddress,
        classes: own?.classes ?? {},
        class: place.class,
        leaveOut: own?.leaveOut ?? [],
        // what is for a trial is for no policy
        tags: place.hours === null ? [...new Set([...pick.machine.tags, ...place.tags])] : [],
        start: body.start,
        ahead: place.ahead,
        hours: place.ahead ? null : place.hours,
      };
      return { pick, need: { processors, memory }, to };
    }),
  );
}

/** The disks that go along. */
const disksOf = ({ pick, to }: Going) => pick.machine.disks.filter((d) => d.file !== '' && !to.leaveOut.includes(d.label));

function sizeChecks({ need, to }: Going, { sizes }: CloudOffers): Check[] {
  const size = sizes.find((s) => s.name === to.size);
  const had = `${countOf(need.processors, 'processor')} and ${need.memory} MB`;
  if (!size && to.size) return [{ level: 'stop', code: 'NO_SIZE', text: `There is no size ${to.size} any more.` }];
  if (!size) return [{ level: 'stop', code: 'NO_SIZE', text: `No size has ${had}. Choose a smaller one.` }];
  if (size.processors >= need.processors && size.memory >= need.memory) return [];
  const gets = `${countOf(size.processors, 'processor')} and ${size.memory} MB`;
  return [{ level: 'look', code: 'SMALLER', text: `${to.name} gets ${gets}; it had ${had}.` }];
}

function machineChecks(going: Going, { machines, naming }: Inventory, offers: CloudOffers): Check[] {
  const { pick, to } = going;
  const checks: Check[] = [];
  const stop = (code: string, text: string) => checks.push({ level: 'stop', code, text });
  // disks that are sent ahead have no size yet
  if (!to.ahead) checks.push(...sizeChecks(going, offers));
  for (const name of new Set(disksOf(going).map((d) => to.classes[d.label] ?? to.class)))
    if (!offers.classes.find((c) => c.name === name)?.regions.includes(to.region))
      stop('NO_STORAGE', `${to.region} has no class ${name} for disks.`);
  if (!disksOf(going).length) stop('NO_DISKS', `No disk of ${pick.machine.name} would go along.`);
  if (!to.ahead && machines.some((m) => m.name === to.name))
    stop('NAME_TAKEN', `There is a machine ${to.name} already. Choose another name.`);
  const fault = nameFault(to.name, { ...naming, ...machineNames });
  if (fault) stop('NAME_FORBIDDEN', `No machine can be called ${to.name} there: it ${fault}. Choose another name.`);
  const left = pick.machine.disks.filter((d) => !disksOf(going).includes(d)).map((d) => d.label);
  if (left.length) checks.push({ level: 'look', code: 'DISK_LEFT_OUT', text: `${left.join(', ')} of ${pick.machine.name} stays behind.` });
  return checks;
}

/** What leaves its place, or may: it has to be agreed to. */
function placeChecks(all: readonly Going[], region: Region, agreed: boolean): Check[] {
  const machines = all.map(({ pick }) => pick.machine);
  const unknown = machines.filter((m) => !m.location || !region.place);
  const leaving = grouped(
    machines.filter((m) => m.location && region.place && m.location !== region.place),
    (m) => m.location,
  );
  const namesOf = (some: typeof machines) => some.map((m) => m.name).join(', ');
  const check = (code: string, text: string): Check =>
    agreed ? { level: 'look', code, text } : { level: 'stop', code, text: `${text} Agree to that first.` };
  const checks: Check[] = [];
  if (leaving.size) {
    const words = [...leaving].map(([home, own]) => `${namesOf(own)} ${own.length === 1 ? 'leaves' : 'leave'} ${home}`);
    checks.push(check('LEAVES_PLACE', `${words.join('; ')} for ${region.place}.`));
  }
  if (unknown.length) {
    const what = region.place ? namesOf(unknown) : region.name;
    checks.push(check('PLACE_UNKNOWN', `Where ${what} is nobody said, so nobody knows whether the data leaves its place.`));
  }
  return checks;
}

function regionChecks(all: readonly Going[], region: Region, place: Place, offers: CloudOffers): Check[] {
  const checks: Check[] = [];
  const { quota, used, networks, groups } = region;
  if (!networks.some((n) => n.name === place.network))
    checks.push({ level: 'stop', code: 'NO_NETWORK', text: `${region.name} has no network ${place.network}. Choose one it has.` });
  const bytes = all.flatMap(disksOf).reduce((sum, d) => sum + d.size, 0);
  const processors = all.reduce((sum, { to }) => sum + (offers.sizes.find((s) => s.name === to.size)?.processors ?? 0), 0);
  const over: string[] = [];
  if (used.bytes + bytes > quota.bytes)
    over.push(`${formatBytes(bytes)} of disks (${formatBytes(Math.max(0, quota.bytes - used.bytes))} left)`);
  if (!place.ahead && used.processors + processors > quota.processors)
    over.push(`${countOf(processors, 'processor')} (${Math.max(0, quota.processors - used.processors)} left)`);
  if (!place.ahead && used.instances + all.length > quota.instances)
    over.push(`${countOf(all.length, 'machine')} (${Math.max(0, quota.instances - used.instances)} left)`);
  if (over.length)
    checks.push({ level: 'stop', code: 'OVER_QUOTA', text: `More than ${region.name} lets the account have: ${over.join(', ')}.` });
  const fresh = place.groups.filter((g) => !groups.includes(g));
  if (fresh.length && !place.ahead) checks.push({ level: 'fine', code: 'NEW_GROUPS', text: `Made there: the group ${fresh.join(', ')}.` });
  if (!place.ahead)
    checks.push(
      place.publicAddress
        ? { level: 'look', code: 'PUBLIC_ADDRESS', text: 'It gets an address that is reached from everywhere.' }
        : { level: 'fine', code: 'NO_PUBLIC_ADDRESS', text: 'No address that is reached from everywhere.' },
    );
  return checks;
}

/** Two restores of one machine into one region would take the same volumes. */
async function goingOn(deps: Deps, all: readonly Going[], { region }: Place): Promise<Check[]> {
  const ids = all.map(({ pick }) => pick.point.workload_id);
  const tasks = await deps
    .db('task')
    .where({ type: 'restore' })
    .whereIn('state', ['waiting', 'running'])
    .whereIn('workload_id', ids)
    .select<{ workload_id: number; work: unknown }[]>('workload_id', 'work');
  const busy = tasks.filter(({ work }) => {
    const { to } = fromJson<RestorePlan>(work);
    return to.kind === 'machine' && to.destination.to === 'cloud' && to.destination.region === region;
  });
  const names = all.filter(({ pick }) => busy.some((t) => t.workload_id === pick.point.workload_id)).map(({ pick }) => pick.machine.name);
  return names.length
    ? [{ level: 'stop', code: 'GOES_ON', text: `${names.join(', ')} is being brought to ${region} already. Wait until that has ended.` }]
    : [];
}

/** What all of it costs there. */
function priceCheck(all: readonly Going[], place: Place, { currency, sizes, classes, addressPerMonth }: CloudOffers): Check[] {
  const months = all.map((going) => {
    const { to } = going;
    const size = place.ahead ? { perHour: 0 } : (sizes.find((s) => s.name === to.size) ?? { perHour: 0 });
    const disks = disksOf(going).map((d) => {
      const kind = to.classes[d.label] ?? to.class;
      return { size: d.size, perGBMonth: classes.find((c) => c.name === kind)?.perGBMonth ?? 0 };
    });
    return cloudMonth(size, disks, place.publicAddress && !place.ahead ? addressPerMonth : 0);
  });
  const sum = (of: 'size' | 'disks' | 'address' | 'total') =>
    formatPrice(
      months.reduce((all, m) => all + m[of], 0),
      currency,
    );
  const text = place.ahead
    ? `The disks cost ${sum('disks')} a month there, used or not.`
    : `It costs ${sum('total')} a month there while it runs: ${sum('size')} for ${[...new Set(all.map(({ to }) => to.size))].join(', ')}, ${sum('disks')} for disks${place.publicAddress ? `, ${sum('address')} for the address` : ''}.`;
  return [{ level: 'fine', code: 'PRICE_THERE', text }];
}

/** Machines into a cloud: as new instances, or their disks alone, ahead of them. */
export const cloudRestores: RestorePlanner = {
  async look(deps, body, picks) {
    const place = placeOf(body);
    const { row, inventory, offers } = await cloudOf(deps, place);
    const all = await goingOf(deps, body, offers, picks);
    const region = offers.regions.find((r) => r.name === place.region);
    if (!region) throw refuse('body.destination.region', `${row.name} has no region ${place.region}.`);
    const names = all.map(({ to }) => to.name);
    const twice = names.find((name, i) => names.indexOf(name) !== i);
    const checks: Check[] = [
      ...placeChecks(all, region, body.leavesPlace || body.trial),
      ...all.flatMap((going) => machineChecks(going, inventory, offers)),
      ...(twice !== undefined
        ? [{ level: 'stop' as const, code: 'NAME_TWICE', text: `Several of the machines would be called ${twice}. Give them other names.` }]
        : []),
      ...regionChecks(all, region, place, offers),
      ...(await goingOn(deps, all, place)),
      ...priceCheck(all, place, offers),
    ];
    if (place.hours !== null && !place.ahead)
      checks.push({
        level: 'fine',
        code: 'REMOVED_AFTER',
        text: `For a trial: no policy takes it, and ${countOf(place.hours, 'hour')} after it is there it is removed with its disks.`,
      });
    const tags = [...new Set(all.flatMap(({ to }) => to.tags))];
    if (tags.length && !place.ahead)
      checks.push({
        level: 'fine',
        code: 'TAGS',
        text: `It gets the tags ${tags.join(', ')}: policies by tag protect it as soon as it is there.`,
      });
    const goesTo = new Map(
      all.map(({ pick, to }) => [
        pick.point.id,
        place.ahead ? `disks for ${to.name} in ${to.region}` : `${to.name} in ${to.region}, ${to.size}`,
      ]),
    );
    return { goesTo: (pick) => goesTo.get(pick.point.id) ?? '', checks };
  },

  /** One for each machine. */
  async tasks(deps, body, picks) {
    const place = placeOf(body);
    const { offers } = await cloudOf(deps, place);
    return (await goingOf(deps, body, offers, picks)).map((going) => ({
      workloadId: going.pick.point.workload_id,
      work: {
        type: 'restore' as const,
        picks: [{ pointId: going.pick.point.id, path: '', to: '', base: '' }],
        to: { kind: 'machine' as const, platformId: place.platformId, destination: going.to },
        trial: body.trial,
        readFrom: body.readFrom,
        expected: { items: disksOf(going).length, bytes: disksOf(going).reduce((sum, d) => sum + d.size, 0) },
      },
    }));
  },

  rules(body) {
    const place = placeOf(body);
    const agreed = body.leavesPlace ? '; that it leaves its place is agreed to' : '';
    return `${trialWords(body)}${place.ahead ? 'disks sent ahead' : 'as new machines'} to the cloud, region ${place.region}${agreed}`;
  },
};
