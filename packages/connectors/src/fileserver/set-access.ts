import type { FileServer, ShareItemFacts } from '@lithodex/kinds';
import { quoted, startSmb, whyNot } from '../shares/smb-program';
import { SourceError } from '../source-error';
import { wayOf } from './smb-session';

const program = 'smbcacls';
const patienceMs = 60_000;

/** An access list as the program takes it: owner, group, then an entry each with type, flags and mask as numbers. */
export function accessText({ owner, group, entries }: NonNullable<ShareItemFacts['access']>): string {
  const hex = (n: number) => `0x${n.toString(16)}`;
  return [
    'REVISION:1',
    `OWNER:${owner}`,
    `GROUP:${group}`,
    ...entries.map(([sid, type, flags, mask]) => `ACL:${sid}:${type}/${hex(flags)}/${hex(mask)}`),
  ].join(',');
}

/** Says who may do what with an item of a share. Throws FILE_SHUT_THERE where that may not be said, SourceError. */
export async function setAccess(
  server: FileServer,
  share: string,
  item: string,
  access: NonNullable<ShareItemFacts['access']>,
): Promise<void> {
  const path = quoted(item).slice(1, -1);
  const { child, clear } = await startSmb(
    wayOf(server),
    [program],
    [`//${server.host}/${share}`, path, '--numeric', '-S', accessText(access)],
  );
  let said = '';
  const late = setTimeout(() => child.kill('SIGKILL'), patienceMs);
  try {
    const status = await new Promise<number | null>((resolve, reject) => {
      for (const stream of [child.stdout, child.stderr])
        stream.on('data', (text: Buffer) => (said = (said + text.toString()).slice(-4000)));
      child.on('error', () => {
        reject(new SourceError('SHARE_PROGRAM_MISSING', program));
      });
      child.on('close', resolve);
      child.stdin.end();
    });
    if (status === 0) return;
    if (/ACCESS_DENIED|INVALID_OWNER|PRIVILEGE_NOT_HELD/.test(said)) throw new SourceError('FILE_SHUT_THERE', item);
    throw whyNot(said);
  } finally {
    clearTimeout(late);
    clear();
  }
}
