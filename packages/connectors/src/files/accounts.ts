import fs from 'node:fs';
import { EngineError, type posix } from '@lithodex/engine';

const linesOf = (file: '/etc/passwd' | '/etc/group') =>
  fs
    .readFileSync(file, 'utf8')
    .split('\n')
    .map((line) => line.split(':'));

/** Names of users or groups by number, from the system's plain files. */
export function readNames(file: '/etc/passwd' | '/etc/group'): Map<number, string> {
  const names = new Map<number, string>();
  for (const [name, , id] of linesOf(file)) if (name && id) names.set(Number(id), name);
  return names;
}

/** Account of a user name with the groups it belongs to; undefined for null, which means the rights of the process. Throws ACCOUNT_UNKNOWN. */
export function accountOf(user: string | null): posix.Account | undefined {
  if (user === null) return undefined;
  const found = linesOf('/etc/passwd').find(([name]) => name === user);
  if (!found) throw new EngineError('ACCOUNT_UNKNOWN', user);
  const [, , uid, gid] = found.map(Number) as [number, number, number, number];
  const groups = linesOf('/etc/group').flatMap(([, , id, members]) => (members?.split(',').includes(user) ? [Number(id)] : []));
  return { uid, gid, groups: [...new Set([gid, ...groups])] };
}
