import { formatDuration } from '@lithodex/core';
import type { DatabaseServer } from '@lithodex/kinds';
import { SourceError } from '../source-error';
import { familyOf } from './families';

/** A replica, as people know it. */
export const nameOf = ({ host, port }: Pick<DatabaseServer, 'host' | 'port'>): string => `${host}:${port}`;

/** The replicas of a server as servers of their own. */
const replicasOf = (server: DatabaseServer): DatabaseServer[] =>
  (server.replicas?.members ?? []).map(({ host, port }) => ({ ...server, host, port, replicas: null }));

/** How a replica is now: seconds behind, or why it can't be read in place of its server. */
async function stateOf(replica: DatabaseServer): Promise<{ readonly behind: number } | { readonly why: string }> {
  try {
    const behind = await familyOf(replica.family).behind(replica);
    return behind === null ? { why: 'it does not follow its server' } : { behind };
  } catch (error) {
    if (!(error instanceof SourceError)) throw error;
    return { why: error.message.replace(/\.$/, '') };
  }
}

/** The first replica that is not too far behind, if there is one: otherwise the server itself is to be read. `said`: why it is that one; '' where there is no other. */
export async function memberToRead(server: DatabaseServer): Promise<{ readonly replica?: DatabaseServer; readonly said: string }> {
  const passed: string[] = [];
  for (const replica of replicasOf(server)) {
    const name = nameOf(replica);
    const state = await stateOf(replica);
    if ('why' in state) passed.push(`${name} is not read: ${state.why}`);
    else if (state.behind > server.replicas!.behindSeconds) passed.push(`${name} is ${formatDuration(state.behind * 1000)} behind`);
    else return { replica, said: [...passed, `read from the replica ${name}, ${behindWords(state.behind)}`].join('; ') };
  }
  return { said: passed.length ? [...passed, 'the server itself is read'].join('; ') : '' };
}

const behindWords = (seconds: number) => (seconds < 1 ? 'which is up to date' : `which is ${formatDuration(seconds * 1000)} behind`);

/** How the replicas are now, a sentence each: those that would be read, and those that would not. */
export async function replicasNow(server: DatabaseServer): Promise<{ readonly fine: string[]; readonly not: string[] }> {
  const [fine, not]: [string[], string[]] = [[], []];
  for (const replica of replicasOf(server)) {
    const state = await stateOf(replica);
    const name = nameOf(replica);
    if ('why' in state) not.push(`The replica ${name} would not be read now: ${state.why}.`);
    else fine.push(`The replica ${name} is ${state.behind < 1 ? 'up to date' : `${formatDuration(state.behind * 1000)} behind`}.`);
  }
  return { fine, not };
}
