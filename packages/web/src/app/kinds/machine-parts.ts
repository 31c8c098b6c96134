import type { WorkloadRow } from '@lithodex/contract';
import { countOf, mailPathOf } from '@lithodex/core';
import type { PickedItem } from '../data/picks';
import { download, everyRule, says, type KindParts, type PlaceOption } from './kind-parts';
import { drivePlaces, share } from './common-places';

/** Where a machine is: on a host and in a folder, or in a region of a cloud and of what size. */
const placeWords = ({ host, folder, cloud }: NonNullable<WorkloadRow['machine']>) =>
  cloud ? `${host}, ${cloud.size}` : `${host}, ${folder}`;

/** Whether an item lies inside a disk. */
const isInside = ({ path }: Pick<PickedItem, 'path'>) => /^disks\/[^/]+\/./.test(path);

/** A disk or a volume can be read where it is. */
function devicePlaces([first, ...others]: readonly PickedItem[]): PlaceOption[] {
  const isDevice = first && !others.length && /^disks\/[^/]+(\/[^/]+)?$/.test(first.path);
  if (!isDevice) return [];
  return [
    {
      value: 'attached',
      label: 'a block device that I can read',
      form: async () => (await import('./attach-place')).AttachPlace,
      uses: { verb: 'Attach', lands: '/recover/attached' },
    },
  ];
}

/** Mail out of a mail store goes into a mailbox, or is carried away as one. */
function mailPlaces(picks: readonly PickedItem[]): PlaceOption[] {
  return [
    {
      value: 'member',
      label: 'the mailbox of somebody',
      form: async () => (await import('./tenant-place')).TenantPlace,
      first: 'Choose whom it goes to first.',
    },
    download('mbox', 'a mailbox in one file'),
    download('maildir', 'a mailbox of folders and files'),
    download('zip', 'a zip archive'),
    download('tar', 'a tar archive'),
    ...(picks.length === 1 && picks[0]?.kind === 'file' ? [download('file', 'the message itself')] : []),
  ];
}

function insidePlaces(picks: readonly PickedItem[]): PlaceOption[] {
  const [first, ...others] = picks;
  return [
    { value: 'original', label: 'where they were, inside the machine while it runs', destination: { to: 'original' } },
    {
      value: 'inside',
      label: 'another machine that runs',
      form: async () => (await import('./inside-machine-place')).InsideMachinePlace,
      first: 'Choose the machine and a folder in it first.',
    },
    {
      value: 'folder',
      label: 'a folder of the mover',
      form: async () => (await import('./folder-place')).FolderPlace,
      own: async () => (await import('./folder-own')).FolderOwn,
      inputs: { strips: true },
      first: 'Name the folder first.',
    },
    share,
    ...(!others.length && first?.kind === 'file' ? [download('file', 'a single file')] : []),
    download('tar', 'a tar archive'),
    download('zip', 'a zip archive'),
    ...drivePlaces(picks),
  ];
}

export const machineParts: KindParts = {
  noun: 'machine',
  where: ({ machine: m }) => (m ? placeWords(m) : ''),
  sourceFacts: ({ machine: m, source, inside }) => [
    {
      term: 'Platform',
      text: m ? `, ${placeWords(m)}` : '',
      link: { label: source.name, to: ['/estate/platforms', source.id] },
    },
    ...(m?.cloud
      ? []
      : [
          {
            term: 'Account inside',
            text: inside ?? (m?.helper ? 'none; the helper inside brings programs to rest' : 'none'),
            inside: inside === null ? 'Give one' : 'Change',
          },
        ]),
  ],
  links: () => [],
  mayHoldMail: (path) => isInside({ path }),
  pointRemarks(p, w) {
    const { machine: m } = p;
    const changed = says(`${countOf(p.changed + p.added + p.removed, 'block')} changed`);
    if (!m) return [changed];
    const level = m.level === 'application' ? says('programs at rest') : says('as after a loss of power', m.level === 'crash');
    return w.machine && w.machine.host !== m.host ? [changed, level, says(`was on ${m.host}`)] : [changed, level];
  },
  peek: async () => (await import('./machine-peek')).MachinePeek,
  places(picks) {
    const [first, ...others] = picks;
    if (picks.every((p) => mailPathOf(p.path, false) !== undefined)) return mailPlaces(picks);
    if (picks.some(isInside)) return [...insidePlaces(picks), ...devicePlaces(picks)];
    const all: PlaceOption[] = [{ value: 'original', label: 'where they were, over what is there', destination: { to: 'original' } }];
    if (picks.every((p) => p.path === ''))
      all.push({
        value: 'anew',
        label: 'where they were, what is there removed first',
        destination: { to: 'original', removeFirst: true },
      });
    if (picks.every((p) => p.path === ''))
      all.push({
        value: 'platform',
        label: 'a platform, as new machines',
        form: async () => (await import('./machine-place')).MachinePlace,
        first: 'Choose a host and a storage first: only those that it sees are offered.',
        own: async () => (await import('./machine-own')).MachineOwn,
      });
    if (picks.every((p) => p.path === ''))
      all.push({
        value: 'cloud',
        label: 'a cloud',
        form: async () => (await import('./cloud-place')).CloudPlace,
        first: 'Choose a region, a class for the disks and a network first.',
        own: async () => (await import('./cloud-own')).CloudOwn,
      });
    if (new Set(picks.map((p) => p.pointId)).size === 1)
      all.push({
        value: 'over',
        label: 'over another machine, home from elsewhere',
        form: async () => (await import('./over-place')).OverPlace,
        first: 'Choose the machine that is written over first.',
      });
    if (picks.every((p) => p.path === ''))
      all.push({
        value: 'running',
        label: 'a host, run straight from the store',
        form: async () => (await import('./running-place')).RunningPlace,
        first: 'Choose a host first.',
        uses: { verb: 'Run from the store', lands: '/recover/running' },
      });
    if (!others.length && first?.path === '') all.push(download('ova', 'an OVF package'));
    if (!others.length && first?.path.startsWith('disks/'))
      all.push(download('file', 'a raw disk'), download('qcow2', 'a QCOW2 disk'), ...devicePlaces(picks));
    return all;
  },
  rules: (picks) => (picks.some(isInside) ? everyRule : []),
  starts: (picks) => !picks.some(isInside),
  edits: false,
};
