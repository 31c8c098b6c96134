import { countOf, escapePath, formatBytes, joinPath, pathBelow } from '@lithodex/core';
import type { AnswerTo } from '@lithodex/contract';
import { DateTime } from 'luxon';
import { filesBelow } from '../../records/catalog/tree';
import type { Deps } from '../deps';
import { rescueOf } from './rescue';
import type { ResolvedPick } from './resolve-picks';
import {
  countChecks,
  expectedOf,
  onlyWorkload,
  ruleWords,
  trialWords,
  type Check,
  type LookBody,
  type RestorePlanner,
} from './restore-planner';

const mostLooked = 4000;

type Look = AnswerTo<'look'> & { readonly looked: number; readonly complete: boolean };

async function lookAtDestination(deps: Deps, picks: readonly ResolvedPick[]): Promise<Look> {
  const places: { base: string; path: string; mtimeNs: string }[] = [];
  let complete = true;
  for (const pick of picks) {
    if (places.length >= mostLooked) {
      complete = false;
      break;
    }
    if (pick.inside) {
      const { files, whole } = pick.inside;
      const below = files.slice(0, mostLooked - places.length);
      for (const file of below)
        places.push({ base: pick.base, path: [pick.to, file.path].filter(Boolean).join('/'), mtimeNs: file.mtimeNs });
      if (!whole || below.length < files.length) complete = false;
      continue;
    }
    const files = await filesBelow(deps.db, pick.point.series_no, pick.path, pick.row, pick.point.ordinal, mostLooked - places.length + 1);
    for (const file of files.slice(0, mostLooked - places.length)) {
      const below = pick.path === '' ? file.path : file.path.slice(pick.path.length).replace(/^\//, '');
      places.push({ base: pick.base, path: [pick.to, below].filter(Boolean).join('/'), mtimeNs: String(file.row.mtime_ns) });
    }
    if (files.length > mostLooked) complete = false;
  }
  const destination = picks[0]?.base ?? '/';
  // only what goes to the very place it was taken from may go to folders of the system
  const inPlace = picks.every((p) => p.ref.root === picks[0]!.ref.root && pathBelow(p.base, p.to) === pathBelow(p.ref.root, p.path));
  const look = await deps.movers.ask({ ask: 'look', places, destination, cameFrom: inPlace ? (picks[0]?.ref.root ?? null) : null });
  return { ...look, looked: places.length, complete };
}

function placeChecks(look: Look, bytes: number): Check[] {
  return [
    look.free < bytes
      ? {
          level: 'stop',
          code: 'NO_ROOM',
          text: `The destination has ${formatBytes(look.free)} free, ${formatBytes(bytes)} are needed.`,
        }
      : { level: 'fine', code: 'ROOM', text: `Room: ${formatBytes(look.free)} free, ${formatBytes(bytes)} to write.` },
    look.writable
      ? { level: 'fine', code: 'RIGHTS', text: 'The mover may write there.' }
      : { level: 'stop', code: 'NO_RIGHT', text: `The mover may not write to ${escapePath(look.nearest)}.` },
  ];
}

/** What becomes of what exists there. */
export function conflictCheck({ rule, damagedIn }: Pick<LookBody, 'rule' | 'damagedIn'>, look: Omit<Look, 'refused'>): Check {
  const some = look.complete ? '' : ` of the first ${countOf(look.looked, 'file')} looked at`;
  const exist = countOf(look.exist, 'file');
  const fine = (code: string, text: string): Check => ({ level: 'fine', code, text });
  if (look.exist === 0) return fine('NOTHING_EXISTS', `Nothing${some} exists at the destination yet.`);
  switch (rule) {
    case 'leave':
      if (!damagedIn) return fine('LEFT', `What exists stays as it is: ${exist}${some}.`);
      return {
        level: 'look',
        code: 'STAYS_DAMAGED',
        text: `${countOf(look.exist, 'damaged file')} of these would be left standing. Replace what is there, or put the good version beside it.`,
      };
    case 'beside':
      return fine('BESIDE', `What exists stays, the restored version is put beside it: ${exist}${some}.`);
    case 'replaceIfOlder':
      return fine('OLDER', `What exists is replaced if it is older: ${exist}${some}, of which ${look.newer} newer and kept.`);
    case 'replace':
      if (!look.newer) return fine('REPLACED', `What exists is replaced, none of it newer: ${exist}${some}.`);
      return {
        level: 'look',
        code: 'REPLACED',
        text: `Would replace what is newer than the point: ${countOf(look.newer, 'file')}${some}.`,
      };
  }
}

/** A folder that is not there yet. */
function madeCheck({ nearest }: Look, picks: readonly ResolvedPick[]): Check[] {
  const base = picks[0]?.base ?? '/';
  if (nearest === base || !base.startsWith(nearest)) return [];
  return [{ level: 'fine', code: 'FOLDER_MADE', text: `${escapePath(base)} is not there yet: it is made.` }];
}

function samePlaceCheck(picks: readonly ResolvedPick[]): Check[] {
  const places = new Set(picks.map((p) => joinPath(p.base, p.to)));
  const twice = picks.length - places.size;
  if (twice === 0) return [];
  const text = `${countOf(twice, 'item')} would go to the place of another picked version. Keep one version of each, or restore without the original path.`;
  return [{ level: 'stop', code: 'SAME_PLACE', text }];
}

/** Items of any kind, as files in folders of a mover's host. */
export const fileRestores: RestorePlanner = {
  async look(deps, body, picks) {
    const look = await lookAtDestination(deps, picks);
    const { looked, exist, newer, complete, free } = look;
    const there = { existing: { looked, exist, newer, complete }, free };
    const goesTo = (p: ResolvedPick) => escapePath(joinPath(p.base, p.to));
    if (look.refused) return { ...there, goesTo, checks: [{ level: 'stop', code: 'REFUSED_THERE', text: look.refused }] };
    return {
      ...there,
      goesTo,
      checks: [
        ...countChecks(picks),
        ...placeChecks(look, expectedOf(picks).bytes),
        ...madeCheck(look, picks),
        conflictCheck(body, look),
        ...samePlaceCheck(picks),
      ],
    };
  },

  tasks(deps, body, picks) {
    const newest = Math.max(...picks.map((p) => p.point.moment));
    const stamp = DateTime.fromMillis(newest, { zone: deps.config.zone }).toFormat('yyyy-MM-dd HHmm');
    return Promise.resolve([
      {
        workloadId: onlyWorkload(picks),
        work: {
          type: 'restore',
          picks: picks.map((p) => ({ pointId: p.point.id, path: p.path, to: p.to, base: p.base })),
          readFrom: body.readFrom,
          to: { kind: 'files', rule: body.rule, stamp },
          trial: body.trial,
          expected: expectedOf(picks),
        },
      },
    ]);
  },

  /** What is replaced where it came from. */
  async rescue(deps, body, picks) {
    const replaces = body.rule === 'replace' || body.rule === 'replaceIfOlder';
    return replaces && !body.trial && body.destination.to === 'original' ? rescueOf(deps, picks) : null;
  },

  rules(body) {
    const { destination } = body;
    const where =
      destination.to === 'folder'
        ? `to ${destination.folder}, ${destination.keepPath ? 'keeping' : 'without'} the original path`
        : 'to the original place';
    return `${trialWords(body)}${where}; ${ruleWords[body.rule]}`;
  },
};
