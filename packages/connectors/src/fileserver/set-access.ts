import type { FileServer, ShareItemFacts } from '@lithodex/kinds';
import { quoted, startSmb, whyNot } from '../shares/smb-program';
import { isSourceError, SourceError } from '../source-error';
import { wayOf } from './smb-session';

type Access = NonNullable<ShareItemFacts['access']>;

const program = 'smbcacls';
const patienceMs = 60_000;
/** The program knows no other. */
const usualPort = 445;

/** An access list as the program takes it: owner and group if wished, then an entry each with type, flags and mask as numbers. */
export function accessText({ owner, group, entries }: Access, owned = true): string {
  const hex = (n: number) => `0x${n.toString(16)}`;
  const list = entries.map(([sid, type, flags, mask]) => `ACL:${sid}:${type}/${hex(flags)}/${hex(mask)}`);
  return ['REVISION:1', ...(owned ? [`OWNER:${owner}`, `GROUP:${group}`] : []), ...list].join(',');
}

/** Says who may do what with an item of a share, and whose it is. Returns what could not be set, in words. Throws SourceError. */
export async function setAccess(server: FileServer, share: string, item: string, access: Access): Promise<string> {
  if (server.port !== usualPort) return `who may do what with it can be set at port ${usualPort} alone`;
  try {
    await say(server, share, item, accessText(access));
    return '';
  } catch (error) {
    if (!isSourceError(error, 'FILE_SHUT_THERE')) throw error;
  }
  // to give something to another takes a right that few have
  await say(server, share, item, accessText(access, false));
  return 'its owner could not be set';
}

async function say(server: FileServer, share: string, item: string, list: string): Promise<void> {
  const rest = [quoted(item).slice(1, -1), '--numeric', '-S', list];
  const { child, clear } = await startSmb(wayOf(server), [program], rest, (reached) => [`//${reached}/${share}`]);
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
