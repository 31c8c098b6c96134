import { escapePath, formatDuration } from '@lithodex/core';
import type { RestoreBody } from '@lithodex/contract';
import { leadsInside } from '../../records/recover/inside-path';
import type { ResolvedPick } from './resolve-picks';
import { refuse, type LookBody, type RestorePlanner } from './restore-planner';

const hourMs = 3_600_000;

function hoursOf({ destination }: Pick<RestoreBody, 'destination'>): number {
  if (destination.to !== 'attached') throw refuse('body.destination', 'It is not to be attached.');
  return destination.hours;
}

const isDrive = ({ destination }: Pick<RestoreBody, 'destination'>) => destination.to === 'attached' && destination.as === 'drive';

/** The only pick: a disk or a volume on it, or any folder where it is to be a drive. Throws INVALID. */
function attachedOf(body: Pick<RestoreBody, 'destination'>, picks: readonly ResolvedPick[]): ResolvedPick {
  const [pick, ...others] = picks;
  if (!pick || others.length) throw refuse('body.picks', 'One disk, volume or folder is attached at a time.');
  if (isDrive(body)) {
    if (pick.kind !== 'folder') throw refuse('body.picks', `${escapePath(pick.path)} is no folder: pick the one it is in.`);
    return pick;
  }
  const leads = leadsInside(pick.point, pick.path);
  // a volume is right below its disk
  const isDevice = leads === 'to' || (leads === 'into' && leadsInside(pick.point, pick.path.slice(0, pick.path.lastIndexOf('/'))) === 'to');
  if (!isDevice) throw refuse('body.picks', `${escapePath(pick.path) || 'A whole machine'} is no disk and no volume: pick one.`);
  return pick;
}

const stays = (body: LookBody) => formatDuration(hoursOf(body) * hourMs);

/** A disk, a volume or a folder of a point, shown for a while. Nothing is written anywhere. */
export const attachRestores: RestorePlanner = {
  look(_deps, body, picks) {
    attachedOf(body, picks);
    return Promise.resolve({
      goesTo: () => (isDrive(body) ? 'a drive that you can look through' : 'a block device that you can read'),
      checks: [
        {
          level: 'fine',
          code: 'STAYS',
          text: `It can be read, not written, for ${stays(body)}, by whoever has the key that you are shown then. Its point is kept meanwhile.`,
        },
      ],
    });
  },

  tasks(deps, body, picks) {
    const { point, path, to } = attachedOf(body, picks);
    const until = deps.clock.now() + hoursOf(body) * hourMs;
    const as = isDrive(body) ? ('drive' as const) : ('device' as const);
    const work = { type: 'attach' as const, as, pick: { pointId: point.id, path, to }, until, readFrom: body.readFrom };
    return Promise.resolve([{ workloadId: point.workload_id, work }]);
  },

  rules: (body) => `attached${isDrive(body) ? ' as a drive' : ''}, read only, for ${stays(body)}`,
};
