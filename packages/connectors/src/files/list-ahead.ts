import { closeFile, FileFacts, openFolderBeneath, posix, statIn, systemCode } from '@lithodex/engine';
import { namesIn } from './folder-listing';
import { factsLength, putFacts, type ScoutReply, type ScoutRequest } from './scout-message';

/** Larger folders are left to the walk, which goes through them without knowing all at once. */
const mostNames = 20_000;
const facts = new FileFacts();

function list({ id, top, path }: ScoutRequest): ScoutReply {
  const fd = openFolderBeneath(top, path);
  try {
    const names = namesIn(fd);
    if (names.length > mostNames) return nothing(id);
    const all = new Float64Array(names.length * factsLength);
    const failed: [number, string][] = [];
    for (let i = 0; i < names.length; i++)
      try {
        statIn(fd, names[i]!, facts);
        putFacts(all, i, facts);
      } catch (error) {
        failed.push([i, systemCode(error) ?? 'EIO']);
      }
    return { id, names: new Uint8Array(Buffer.from(names.join('/'), 'latin1')), facts: all, failed };
  } finally {
    closeFile(fd);
  }
}

const nothing = (id: number): ScoutReply => ({ id, names: null, facts: new Float64Array(0), failed: [] });

/** Lists a folder with what is known of each name; what can't be listed is left to the walk, which finds out why. */
export function listAhead(request: ScoutRequest): ScoutReply {
  try {
    return posix.asAccount(request.account, () => list(request));
  } catch {
    return nothing(request.id);
  }
}
