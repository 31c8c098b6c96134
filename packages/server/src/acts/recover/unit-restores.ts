import { checkLayout, checkMachine, formatBytes, proposeLayout, type Layout } from '@lithodex/core';
import type { RestoreBody } from '@lithodex/contract';
import type { ServerSystem, UnitTo } from '@lithodex/kinds';
import { busyUnits, knownUnit, type KnownUnit } from '../../records/movers/units';
import type { Deps } from '../deps';
import { asCheck, layoutWords, serverOf, systemChecks } from './disk-restores';
import { expectedOf, refuse, trialWords, type Check, type RestorePlanner } from './restore-planner';

type Place = Extract<RestoreBody['destination'], { to: 'unit' }>;

function placeOf({ destination }: Pick<RestoreBody, 'destination'>): Place {
  if (destination.to !== 'unit') throw refuse('body.destination', 'It does not go to a unit.');
  return destination;
}

async function unitOf(deps: Deps, { unit }: Place): Promise<KnownUnit> {
  const known = await knownUnit(deps.db, unit);
  if (!known) throw refuse('body.destination.unit', `No unit ${unit} has reported in.`);
  return known;
}

function layoutOn(system: ServerSystem, { facts }: KnownUnit, { layout }: Place): Layout {
  return layout === null ? proposeLayout(system, facts) : { asItWas: false, disks: layout, without: [] };
}

/** A disk that is to be used has to be empty, or somebody has to have said that it may be erased. */
function contentChecks({ facts }: KnownUnit, layout: Layout, { erase }: Place): Check[] {
  return facts.disks
    .filter((d) => d.holds !== '' && layout.disks.some((l) => l.disk === d.id && l.partitions.length > 0))
    .map((d): Check => {
      const text = `Disk ${d.id} of ${formatBytes(d.bytes)} holds ${d.holds}. All of it will be gone`;
      return erase.includes(d.id)
        ? { level: 'look', code: 'DISK_ERASED', text: `${text}, as was agreed.` }
        : { level: 'stop', code: 'DISK_NOT_EMPTY', text: `${text}: say that it may be erased.` };
    });
}

/** A server made anew on a machine that was started from the recovery medium. */
export const unitRestores: RestorePlanner = {
  async look(deps, body, picks) {
    const { facts } = serverOf(picks);
    const place = placeOf(body);
    const unit = await unitOf(deps, place);
    const goesTo = () => `${unit.name}, onto its disks`;
    const against = systemChecks(facts);
    const busy = (await busyUnits(deps.db)).get(unit.name);
    const checks: Check[] = [...against];
    if (!deps.movers.presentUnits().includes(unit.name))
      checks.push({ level: 'stop', code: 'UNIT_ABSENT', text: `${unit.name} does not answer: start it from the recovery medium.` });
    if (!deps.movers.someReceives())
      checks.push({
        level: 'stop',
        code: 'NO_RECEIVER',
        text: 'No mover that keeps is there to which a unit could come: start one with --receive.',
      });
    if (busy !== undefined)
      checks.push({ level: 'stop', code: 'UNIT_BUSY', text: `${unit.name} is being made anew already, by run ${busy}.` });
    if (against.length) return { goesTo, checks };
    const layout = layoutOn(facts.system, unit, place);
    const machine = { ...unit.facts, disks: unit.facts.disks.map((d) => ({ ...d, holds: '' })) };
    checks.push(
      ...checkMachine(facts.system, unit.facts, unit.lastSeen).map(asCheck),
      ...checkLayout(facts.system, machine, layout).map(asCheck),
      ...contentChecks(unit, layout, place),
      ...layoutWords(facts.system, layout.disks),
    );
    return { goesTo, checks };
  },

  async tasks(deps, body, picks) {
    const place = placeOf(body);
    const { pick, facts } = serverOf(picks);
    const unit = await unitOf(deps, place);
    const to: UnitTo = {
      name: unit.name,
      firmware: unit.facts.firmware,
      disks: unit.facts.disks,
      layout: layoutOn(facts.system, unit, place).disks.map((d) => ({ ...d, partitions: [...d.partitions] })),
      asItself: place.asItself,
    };
    return [
      {
        workloadId: pick.point.workload_id,
        work: {
          type: 'restore',
          picks: [{ pointId: pick.point.id, path: '', to: '', base: pick.base }],
          readFrom: body.readFrom,
          to: { kind: 'files', rule: 'leave', stamp: '', unit: to },
          trial: body.trial,
          expected: expectedOf(picks),
        },
      },
    ];
  },

  rules: (body) => `${trialWords(body)}on the unit ${placeOf(body).unit}, ${placeOf(body).asItself ? 'as itself' : 'as a clone'}`,
};
