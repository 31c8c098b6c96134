import { mailPathOf } from '@lithodex/core';
import type { RestoreBody } from '@lithodex/contract';
import type { ResolvedPick } from './resolve-picks';
import { countChecks, expectedOf, onlyWorkload, type Check, type RestorePlanner } from './restore-planner';

type Format = Extract<RestoreBody['destination'], { to: 'download' }>['format'];

/** Whether what is picked can be had in a format: a file is one file, an image one disk, a package one machine. */
export function formatChecks(
  format: Format,
  picks: readonly (Pick<ResolvedPick, 'kind' | 'path' | 'workloadKind'> & Partial<Pick<ResolvedPick, 'inside'>>)[],
): Check[] {
  const stop = (code: string, text: string): Check[] => [{ level: 'stop', code, text }];
  const [pick, ...others] = picks;
  const machine = pick?.workloadKind === 'machine' && others.length === 0;
  if (format === 'file' && (others.length > 0 || pick?.kind !== 'file'))
    return stop('NOT_ONE_FILE', 'A download as a single file needs exactly one file.');
  if ((format === 'mbox' || format === 'maildir') && !picks.every((p) => mailPathOf(p.path, p.workloadKind === 'tenant') !== undefined))
    return stop('NOT_MAIL', 'A mailbox holds messages: pick mail only.');
  if (format === 'ova' && !(machine && pick.path === ''))
    return stop('NOT_ONE_MACHINE', 'A package holds one whole machine: pick one, with all it has.');
  if (format === 'qcow2' && !(machine && /^disks\/.+/s.test(pick.path) && !pick.inside))
    return stop('NOT_ONE_DISK', 'A disk image is made of one disk: pick one.');
  return [];
}

const formatOf = ({ destination }: Pick<RestoreBody, 'destination'>): Format =>
  (destination as Extract<RestoreBody['destination'], { to: 'download' }>).format;

/** Items of any kind, as one file that is fetched by the one who asked for it. */
export const downloadRestores: RestorePlanner = {
  look: (_deps, body, picks) =>
    Promise.resolve({ goesTo: () => 'download', checks: [...formatChecks(formatOf(body), picks), ...countChecks(picks)] }),
  tasks: (_deps, body, picks) =>
    Promise.resolve([
      {
        workloadId: onlyWorkload(picks),
        work: {
          type: 'download',
          format: formatOf(body),
          readFrom: body.readFrom,
          picks: picks.map((p) => ({ pointId: p.point.id, path: p.path, to: p.to })),
          expected: expectedOf(picks),
        },
      },
    ]),
  rules: (body) => `download as ${formatOf(body)}`,
};
