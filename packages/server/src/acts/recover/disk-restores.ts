import {
  checkLayout,
  escapePath,
  formatBytes,
  formatList,
  joinPath,
  madeAnew,
  obstacles,
  proposeLayout,
  volumesBack,
  type DiskLayout,
  type RebuildCheck,
} from '@lithodex/core';
import type { RestoreBody } from '@lithodex/contract';
import type { PointFacts, ServerPoint } from '@lithodex/kinds';
import { DateTime } from 'luxon';
import { fromJsonOrNull } from '../../base/db/json';
import type { Deps } from '../deps';
import type { ResolvedPick } from './resolve-picks';
import { expectedOf, refuse, trialWords, type Check, type LookBody, type RestorePlanner } from './restore-planner';

type Place = Extract<RestoreBody['destination'], { to: 'disks' }>;

function placeOf({ destination }: Pick<RestoreBody, 'destination'>): Place {
  if (destination.to !== 'disks') throw refuse('body.destination', 'It does not go onto disks.');
  return destination;
}

/** What the only pick says of its server. Throws INVALID. */
export function serverOf(picks: readonly ResolvedPick[]): { readonly pick: ResolvedPick; readonly facts: ServerPoint } {
  const [pick, ...others] = picks;
  if (!pick || others.length || pick.path !== '') throw refuse('body.picks', 'All of one point of a server goes onto disks.');
  const facts = fromJsonOrNull<PointFacts>(pick.point.facts);
  if (facts?.kind !== 'server') throw refuse('body.picks', 'This point holds no system parts: its source is not read as a whole server.');
  return { pick, facts };
}

/** The folder of the disks, which is not there yet, named by the second. Byte string. */
function folderOf(deps: Deps, { pick, facts }: ReturnType<typeof serverOf>): string {
  const own = DateTime.fromMillis(deps.clock.now(), { zone: deps.config.zone }).toFormat('yyyy-MM-dd HHmmss');
  const host = facts.system.host.replace(/[^\w.-]/g, '-').slice(0, 60);
  return joinPath(pick.base, [host, own].filter(Boolean).join(' '));
}

export const asCheck = ({ code, level, text }: RebuildCheck): Check => ({ code, level: level === 'stop' ? 'stop' : 'look', text });

/** What the layout comes to: which volume stands where, and what stands against it. */
function layoutChecks(body: LookBody, { system, parts }: ServerPoint): Check[] {
  const against = systemChecks({ system, parts });
  if (against.length) return against;
  const machine = { firmware: 'uefi' as const, disks: placeOf(body).disks.map((d) => ({ ...d, serial: '', holds: '' })) };
  const layout = proposeLayout(system, machine);
  return [...checkLayout(system, machine, layout).map(asCheck), ...layoutWords(system, layout.disks)];
}

/** What keeps a server from being made anew, wherever. */
export function systemChecks({ system, parts }: Pick<ServerPoint, 'system' | 'parts'>): Check[] {
  const lacks = obstacles(parts);
  if (lacks.length)
    return [{ level: 'stop', code: 'SYSTEM_PARTS', text: `It would not start: ${lacks.map((p) => p.missing).join('; ')}.` }];
  const strange = volumesBack(system).filter(({ volume }) => !madeAnew.includes(volume.fileSystem));
  if (!strange.length) return [];
  const named = strange.map(({ volume }) => `${volume.mount} is ${volume.fileSystem || 'of no known file system'}`);
  return [{ level: 'stop', code: 'STRANGE_VOLUME', text: `${formatList(named)}, which can not be made anew.` }];
}

/** Which volume stands where, in words. */
export function layoutWords(system: ServerPoint['system'], disks: readonly DiskLayout[]): Check[] {
  const mountOf = new Map(volumesBack(system).map(({ volume }) => [volume.device, volume.mount || volume.fileSystem]));
  const placed = disks.map((d) => {
    const own = d.partitions.map(
      (p) => `${'volume' in p.for ? (mountOf.get(p.for.volume) ?? p.for.volume) : 'its loader'} ${formatBytes(p.bytes)}`,
    );
    return `${d.disk}: ${own.join(', ')}`;
  });
  return placed.length ? [{ level: 'fine', code: 'LAYOUT', text: `${placed.join('. ')}.` }] : [];
}

/** A server made anew on disks that are files of the mover's host. */
export const diskRestores: RestorePlanner = {
  async look(deps, body, picks) {
    const { pick, facts } = serverOf(picks);
    const { bytes } = expectedOf(picks);
    const look = await deps.movers.ask({ ask: 'look', places: [], destination: pick.base, cameFrom: null });
    // the files come first, then the disks with them
    const needed = 2 * bytes;
    const goesTo = () => `${escapePath(folderOf(deps, { pick, facts }))}, a file for each disk`;
    if (look.refused) return { goesTo, checks: [{ level: 'stop', code: 'REFUSED_THERE', text: look.refused }] };
    const room: Check =
      look.free < needed
        ? { level: 'stop', code: 'NO_ROOM', text: `The destination has ${formatBytes(look.free)} free, ${formatBytes(needed)} are needed.` }
        : {
            level: 'fine',
            code: 'ROOM',
            text: `Room: ${formatBytes(look.free)} free, ${formatBytes(needed)} to write, half of it for a while.`,
          };
    const rights: Check = look.writable
      ? { level: 'fine', code: 'RIGHTS', text: 'The mover may write there.' }
      : { level: 'stop', code: 'NO_RIGHT', text: `The mover may not write to ${escapePath(look.nearest)}.` };
    return { goesTo, checks: [room, rights, ...layoutChecks(body, facts)], free: look.free };
  },

  tasks(deps, body, picks) {
    const place = placeOf(body);
    const server = serverOf(picks);
    const { pick } = server;
    const disks = { folder: folderOf(deps, server), disks: place.disks, asItself: place.asItself };
    return Promise.resolve([
      {
        workloadId: pick.point.workload_id,
        work: {
          type: 'restore' as const,
          picks: [{ pointId: pick.point.id, path: '', to: '', base: pick.base }],
          readFrom: body.readFrom,
          to: { kind: 'files' as const, rule: 'leave' as const, stamp: '', disks },
          trial: body.trial,
          expected: expectedOf(picks),
        },
      },
    ]);
  },

  rules: (body) => `${trialWords(body)}onto disks made anew, ${placeOf(body).asItself ? 'as itself' : 'as a clone'}`,
};
