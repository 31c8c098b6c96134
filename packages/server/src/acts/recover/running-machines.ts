import { escapePath, formatBytes, nameFault } from '@lithodex/core';
import type { MachinePoint, RestoreBody } from '@lithodex/contract';
import { fromJson } from '../../base/db/json';
import { askInventory } from '../estate/read-platform';
import type { ResolvedPick } from './resolve-picks';
import { connectedHosts } from './connected-platform';
import { machineNames, refuse, type Check, type LookBody, type RestorePlanner } from './restore-planner';

type Place = Extract<RestoreBody['destination'], { to: 'running' }>;

function placeOf({ destination }: Pick<RestoreBody, 'destination'>): Place {
  if (destination.to !== 'running') throw refuse('body.destination', 'It is not to run from the store.');
  return destination;
}

/** Whole machines, each once. Throws INVALID for anything else. */
function machinesOf(picks: readonly ResolvedPick[]): { readonly pick: ResolvedPick; readonly machine: MachinePoint }[] {
  const each = new Map(picks.map((p) => [p.point.id, p]));
  return [...each.values()].map((pick) => {
    if (pick.point.machine === null) throw refuse('body.picks', 'Only machines can run from the store.');
    if (pick.path !== '') throw refuse('body.picks', `${escapePath(pick.path)} can't run alone: pick the whole machine.`);
    return { pick, machine: fromJson<MachinePoint>(pick.point.machine) };
  });
}

const onNetworks = ({ networks }: Place) => (networks.length ? `on ${networks.join(', ')}` : 'on no network');

/** Machines that are started at once, straight from the store. */
export const runningMachines: RestorePlanner = {
  async look(deps, body: LookBody, picks) {
    const place = placeOf(body);
    const machines = machinesOf(picks);
    const inventory = await askInventory(deps, await connectedHosts(deps.db, place.platformId));
    const checks: Check[] = [];
    const stop = (code: string, text: string) => checks.push({ level: 'stop', code, text });
    const cluster = inventory.clusters.find((c) => c.hosts.includes(place.host));
    if (!cluster) stop('NO_HOST', `There is no host ${place.host} any more.`);
    const missing = place.networks.filter((n) => !cluster?.networks.includes(n));
    if (cluster && missing.length) stop('NO_NETWORK', `${place.host} has no network ${missing.join(', ')}. Choose one it has.`);
    const names = machines.map(({ machine }) => `${machine.name}${place.suffix}`);
    for (const [i, name] of names.entries()) {
      if (names.indexOf(name) !== i)
        stop('NAME_TWICE', `Several of the machines would be called ${name}. Bring them back one after the other.`);
      if (inventory.machines.some((m) => m.name === name))
        stop('NAME_TAKEN', `There is a machine ${name} already. Put something behind the name.`);
      const fault = nameFault(name, { ...inventory.naming, ...machineNames });
      if (fault)
        stop('NAME_FORBIDDEN', `No machine can be called ${name} there: it ${fault}. Put something shorter or plainer behind the name.`);
    }
    for (const { machine } of machines) {
      const left = machine.disks.filter((d) => d.file === '').map((d) => d.label);
      if (left.length)
        checks.push({ level: 'look', code: 'DISK_LEFT_OUT', text: `Not in the point of ${machine.name}: ${left.join(', ')}.` });
      const twin = inventory.machines.find((m) => m.name === machine.name && m.running);
      if (twin && place.networks.some((n) => !cluster?.isolated.includes(n)))
        checks.push({
          level: 'look',
          code: 'TWIN_RUNS',
          text: `${machine.name} runs as well: two machines of one address ${onNetworks(place)} get in each other's way. On an isolated network, or on none, it can be looked at in peace.`,
        });
    }
    checks.push(
      {
        level: 'fine',
        code: 'STARTS_AT_ONCE',
        text: `It starts within seconds, whatever its size, and reads from the store what it needs. The store has to be there for as long; its point is kept meanwhile.`,
      },
      {
        level: 'fine',
        code: 'OVERLAY',
        text: `What it writes is kept beside on the mover, up to ${formatBytes(place.overlay.most)}, unencrypted, until it is copied to a storage or dropped.`,
      },
    );
    return {
      goesTo: (pick) =>
        `${fromJson<MachinePoint>(pick.point.machine).name}${place.suffix}, run from the store on ${place.host}, ${onNetworks(place)}`,
      checks,
    };
  },

  async tasks(deps, body, picks) {
    const place = placeOf(body);
    await connectedHosts(deps.db, place.platformId);
    const { host, folder, networks, suffix, overlay, platformId } = place;
    return machinesOf(picks).map(({ pick, machine }) => ({
      workloadId: pick.point.workload_id,
      work: {
        type: 'runMachine' as const,
        pick: { pointId: pick.point.id, path: '', to: '' },
        platformId,
        place: { name: `${machine.name}${suffix}`, host, folder, networks },
        overlay: { folder: Buffer.from(overlay.folder).toString('latin1'), most: overlay.most },
        wish: { to: 'run' as const },
        readFrom: body.readFrom,
      },
    }));
  },

  rules: (body) => `run from the store on ${placeOf(body).host}, ${onNetworks(placeOf(body))}`,
};
