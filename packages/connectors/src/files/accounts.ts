import fs from 'node:fs';
import type { posix } from '@lithodex/engine';

/** Names of users or groups by number, from the system's plain files. */
export function readNames(file: '/etc/passwd' | '/etc/group'): Map<number, string> {
  const names = new Map<number, string>();
  for (const line of fs.readFileSync(file, 'utf8').split('\n')) {
    const [name, , id] = line.split(':');
    if (name && id) names.set(Number(id), name);
  }
  return names;
}

/** Account of a user name, or undefined when the system has none of that name. */
export function accountOf(user: string): posix.Account | undefined {
  for (const line of fs.readFileSync('/etc/passwd', 'utf8').split('\n')) {
    const [name, , uid, gid] = line.split(':');
    if (name === user) return { uid: Number(uid), gid: Number(gid) };
  }
  return undefined;
}
