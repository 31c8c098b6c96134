import type { KindName } from '@lithodex/kinds';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { ApiError } from '../../base/errors';
import { restoresElsewhere, serverKinds } from './server-kinds';
import { formatChecks } from '../recover/download-restores';
import { conflictCheck } from '../recover/file-restores';
import { plannerFor } from './planner-for';

const picks = (...kinds: KindName[]) => kinds.map((workloadKind) => ({ workloadKind }));
const home = { destination: { to: 'original', removeFirst: false } } as const;

describe('who plans a restore', () => {
  it('is the kind of what is picked, where it goes home', () => {
    for (const kind of ['files', 'machine', 'database'] as const)
      expect(plannerFor(home, picks(kind, kind))).toBe(serverKinds[kind].restores);
  });

  it('is the place, where it goes elsewhere: whatever is picked', () => {
    const folder = { destination: { to: 'folder' as const, folder: '/srv/back', keepPath: true, exceptions: [] } };
    for (const kind of ['files', 'machine', 'database'] as const) expect(plannerFor(folder, picks(kind))).toBe(restoresElsewhere.folder);
    expect(plannerFor({ destination: { to: 'download', format: 'zip' } }, picks('files', 'machine'))).toBe(restoresElsewhere.download);
  });

  it('is nobody where several kinds are to go home together', () => {
    expect(() => plannerFor(home, picks('machine', 'database', 'machine'))).toThrow(ApiError);
    expect(() => plannerFor(home, picks('machine', 'database'))).toThrow(
      'What is of different kinds is restored apart: machine, database server. Nothing was changed.',
    );
  });
});

describe('what exists at the destination', () => {
  const look = (exist: number, newer = 0) => ({ exist, newer, free: 1, writable: true, nearest: '/', looked: 9, complete: true });

  it.each([
    ['leave', 0, 0, undefined, 'fine', 'NOTHING_EXISTS'],
    ['replace', 0, 0, undefined, 'fine', 'NOTHING_EXISTS'],
    ['leave', 3, 1, undefined, 'fine', 'LEFT'],
    ['leave', 3, 0, 'a-point', 'look', 'STAYS_DAMAGED'],
    ['beside', 3, 1, undefined, 'fine', 'BESIDE'],
    ['replaceIfOlder', 3, 1, undefined, 'fine', 'OLDER'],
    ['replace', 3, 0, undefined, 'fine', 'REPLACED'],
    ['replace', 3, 1, undefined, 'look', 'REPLACED'],
  ] as const)('%s with %i there, %i newer, damage %s: %s %s', (rule, exist, newer, damagedIn, level, code) => {
    expect(conflictCheck({ rule, damagedIn }, look(exist, newer))).toMatchObject({ level, code });
  });

  it('needs a person exactly where something newer would be lost or damage would stay', () => {
    const rules = fc.constantFrom('leave', 'replace', 'replaceIfOlder', 'beside');
    fc.assert(
      fc.property(rules, fc.nat(20), fc.nat(20), fc.boolean(), (rule, exist, some, damaged) => {
        const newer = Math.min(some, exist);
        const { level } = conflictCheck({ rule, ...(damaged && { damagedIn: 'p' }) }, look(exist, newer));
        const loses = rule === 'replace' && newer > 0;
        const stays = rule === 'leave' && damaged && exist > 0;
        expect(level).toBe(loses || stays ? 'look' : 'fine');
      }),
    );
  });
});

describe('a download', () => {
  const machine = { workloadKind: 'machine', kind: 'folder', path: '' } as const;
  const disk = { workloadKind: 'machine', kind: 'file', path: 'disks/system.raw' } as const;
  const file = { workloadKind: 'files', kind: 'file', path: 'disks/a' } as const;
  it.each([
    ['file', [file], undefined],
    ['file', [file, file], 'NOT_ONE_FILE'],
    ['file', [machine], 'NOT_ONE_FILE'],
    ['ova', [machine], undefined],
    ['ova', [disk], 'NOT_ONE_MACHINE'],
    ['ova', [machine, machine], 'NOT_ONE_MACHINE'],
    ['qcow2', [disk], undefined],
    ['qcow2', [machine], 'NOT_ONE_DISK'],
    ['qcow2', [file], 'NOT_ONE_DISK'],
    ['zip', [file, machine], undefined],
  ] as const)('as %s of %o: %s', (format, of, code) => {
    expect(formatChecks(format, of)[0]?.code).toBe(code);
  });
});
