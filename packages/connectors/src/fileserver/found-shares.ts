import type { FileServer, FoundWorkload, ShareNow } from '@lithodex/kinds';
import { smbProgram, startSmb, whyNot } from '../shares/smb-program';
import { SourceError } from '../source-error';
import { offeredShares } from './smb-listing';
import { SmbSession, wayOf } from './smb-session';

const mostListed = 4_000_000;
const patienceMs = 60_000;

interface Offered {
  readonly name: string;
  readonly comment: string;
}

/** The shares that a server offers to the account, without those of administrators. Throws SourceError. */
export async function offered(server: FileServer): Promise<readonly Offered[]> {
  const { child, clear } = await startSmb(wayOf(server), [smbProgram], ['-g', '-L', `//${server.host}`]);
  let [said, told] = ['', ''];
  const late = setTimeout(() => child.kill('SIGKILL'), patienceMs);
  try {
    const status = await new Promise<number | null>((resolve, reject) => {
      child.stdout.setEncoding('utf8').on('data', (text: string) => {
        said += text;
        if (said.length > mostListed) child.kill('SIGKILL');
      });
      child.stderr.on('data', (text: Buffer) => (told = (told + text.toString()).slice(-4000)));
      child.on('error', () => {
        reject(new SourceError('SHARE_PROGRAM_MISSING', smbProgram));
      });
      child.on('close', resolve);
      child.stdin.end();
    });
    if (status !== 0) throw whyNot(`${said} ${told}`);
    return offeredShares(said);
  } finally {
    clearTimeout(late);
    clear();
  }
}

/** The shares that are meant: those that were named, or those that are offered. */
export async function sharesMeant(server: FileServer): Promise<readonly Offered[]> {
  if (!server.shares.length) return offered(server);
  const known = await offered(server).catch(() => []);
  return server.shares.map((name) => known.find((s) => s.name.toLowerCase() === name.toLowerCase()) ?? { name, comment: '' });
}

/** Why a share can not be listed; '' where it can. Throws SourceError for what concerns the whole server. */
export async function troubleOf(server: FileServer, name: string): Promise<string> {
  try {
    const session = await SmbSession.open(server, name);
    try {
      await session.list('');
    } finally {
      await session.close();
    }
    return '';
  } catch (error) {
    if (!(error instanceof SourceError) || error.code === 'SHARE_AWAY' || error.code === 'SHARE_PROGRAM_MISSING') throw error;
    return error.message.slice(0, 1000);
  }
}

/** The shares of a server. Throws SourceError. */
export async function sharesOf(server: FileServer): Promise<FoundWorkload[]> {
  const found: FoundWorkload[] = [];
  for (const { name, comment } of await sharesMeant(server))
    found.push({ id: name, name, facts: { kind: 'share', comment, trouble: await troubleOf(server, name) } });
  return found;
}

/** What is where a restore goes. */
export async function shareNow(server: FileServer, name: string): Promise<ShareNow> {
  try {
    const trouble = await troubleOf(server, name);
    return { there: trouble === '', trouble };
  } catch (error) {
    if (!(error instanceof SourceError)) throw error;
    return { there: false, trouble: error.message.slice(0, 1000) };
  }
}
