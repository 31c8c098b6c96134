import type { DatabaseServer } from '@lithodex/kinds';
import { SourceError } from '../../../source-error';
import type { Stopped } from '../../family';
import type { MariadbConnection } from '../connection';
import { bodyOf, eventType, magic } from './events';
import { fetchLog } from './fetch-log';

/** A commit of a replication group: the last one that a replica has made its own, where there is one stream of them. */
export interface CommitId {
  readonly domain: number;
  readonly server: number;
  readonly number: bigint;
}

export const idText = ({ domain, server, number }: CommitId): string => `${domain}-${server}-${number}`;

/** Of ids as servers write them, the number in a stream; undefined where it is not among them. */
function numberIn(text: string | null, domain: number): bigint | undefined {
  const found = (text ?? '').split(',').find((id) => id.trim().startsWith(`${domain}-`));
  return found === undefined ? undefined : BigInt(found.trim().split('-')[2]!);
}

/** Where the log of a server stands right behind a commit that a replica has made its own. Throws SourceError where the server has that part of its log no more. */
export async function placeBehind(
  c: MariadbConnection,
  server: DatabaseServer,
  wanted: CommitId,
  stopped: Stopped,
): Promise<{ readonly file: string; readonly at: number }> {
  const files = (await c.rows<{ Log_name: string }>('SHOW BINARY LOGS')).map((f) => f.Log_name);
  for (const file of files.reverse()) {
    const begin = await c.row<{ ids: string | null }>(`SELECT BINLOG_GTID_POS(?, ${magic.length}) AS ids`, [file]);
    const before = numberIn(begin?.ids ?? null, wanted.domain);
    if (before !== undefined && before > wanted.number) continue;
    return { file, at: await behindIn(c, server, file, wanted, stopped) };
  }
  throw new SourceError('LOG_LACKS', `the commit ${idText(wanted)} is in no log of the server`);
}

async function behindIn(c: MariadbConnection, server: DatabaseServer, file: string, wanted: CommitId, stopped: Stopped): Promise<number> {
  let next: number | undefined;
  const reader = await fetchLog(
    { server, address: c.address, file, at: magic.length },
    (data, r) => {
      for (const event of r.take(data)) {
        if (next !== undefined || event.madeUp || event.type !== eventType.gtid) continue;
        const body = bodyOf(event, r.checked);
        if (body.readUInt32LE(8) === wanted.domain && body.readBigUInt64LE(0) > wanted.number) next = event.end - event.data.length;
      }
      return Promise.resolve();
    },
    stopped,
  );
  return next ?? reader.next;
}
