import { readRuns, type Blocks, type Run } from '../blocks';
import { damaged } from '../errors';

/** Layout after the kernel's documentation of JBD2: big-endian. */
const journalMagic = 0xc03b3998;
const blockType = { descriptor: 1, commit: 2, revoke: 5 };
const tagFlag = { escaped: 1, sameUuid: 2, deleted: 4, last: 8 };
const feature = { wide: 2, checksums: 8 | 16, longTags: 16, fast: 32 };

interface Written {
  /** Block of the journal that holds it. */
  readonly block: number;
  readonly escaped: boolean;
}

interface Transaction {
  readonly sequence: number;
  readonly writes: [number, Written][];
  readonly revoked: number[];
}

/** The file system as it is after what its journal holds was put in place, in memory: blocks of the journal stand for those they are of. */
export async function replayed(disk: Blocks, blockSize: number, journal: readonly Run[]): Promise<Blocks> {
  const changes = await journalChanges(disk, blockSize, journal);
  if (!changes.size) return disk;
  const one = async (block: number) => {
    const written = changes.get(block);
    if (!written) return disk.read(block * blockSize, blockSize);
    const data = Buffer.from(await readRuns(disk, journal, written.block * blockSize, blockSize));
    if (written.escaped) data.writeUInt32BE(journalMagic, 0);
    return data;
  };
  return {
    size: disk.size,
    async read(offset, length) {
      const first = Math.floor(offset / blockSize);
      const last = Math.floor((offset + Math.max(1, length) - 1) / blockSize);
      let touched = false;
      for (let block = first; block <= last && !touched; block++) touched = changes.has(block);
      if (!touched) return disk.read(offset, length);
      const parts: Buffer[] = [];
      for (let block = first; block <= last; block++) parts.push(await one(block));
      return Buffer.concat(parts).subarray(offset - first * blockSize, offset - first * blockSize + length);
    },
  };
}

async function journalChanges(disk: Blocks, blockSize: number, journal: readonly Run[]): Promise<Map<number, Written>> {
  const at = (block: number) => readRuns(disk, journal, block * blockSize, blockSize);
  const front = await at(0);
  if (front.readUInt32BE(0) !== journalMagic || front.readUInt32BE(12) !== blockSize) throw damaged('journal');
  const features = front.readUInt32BE(4) === 4 ? front.readUInt32BE(40) : 0;
  const start = front.readUInt32BE(28);
  const changes = new Map<number, Written>();
  if (start === 0) return changes;
  const first = front.readUInt32BE(20);
  const fastBlocks = features & feature.fast ? front.readUInt32BE(84) || 256 : 0;
  const end = front.readUInt32BE(16) - fastBlocks;
  if (first >= end || start >= end || start < first) throw damaged('journal');
  const done = await committed(at, { first, end, start, sequence: front.readUInt32BE(24), features });
  const revokedIn = new Map<number, number>();
  for (const { sequence, revoked } of done) for (const block of revoked) revokedIn.set(block, sequence);
  for (const { sequence, writes } of done)
    for (const [block, written] of writes) if ((revokedIn.get(block) ?? -1) < sequence) changes.set(block, written);
  return changes;
}

interface JournalPlace {
  readonly first: number;
  readonly end: number;
  readonly start: number;
  readonly sequence: number;
  readonly features: number;
}

/** The transactions that were committed, oldest first. */
async function committed(at: (block: number) => Promise<Buffer>, place: JournalPlace): Promise<Transaction[]> {
  const { first, end, features } = place;
  const done: Transaction[] = [];
  let open: Transaction = { sequence: place.sequence, writes: [], revoked: [] };
  let block = place.start;
  const step = () => {
    const here = block;
    block = block + 1 >= end ? first : block + 1;
    return here;
  };
  for (let passed = 0; passed < end - first; passed++) {
    const data = await at(step());
    if (data.readUInt32BE(0) !== journalMagic || data.readUInt32BE(8) !== open.sequence >>> 0) break;
    const type = data.readUInt32BE(4);
    if (type === blockType.commit) {
      done.push(open);
      open = { sequence: open.sequence + 1, writes: [], revoked: [] };
    } else if (type === blockType.revoke) open.revoked.push(...revokedBlocks(data, features));
    else if (type === blockType.descriptor)
      for (const { to, escaped } of tagsIn(data, features)) {
        open.writes.push([to, { block: step(), escaped }]);
        passed++;
      }
    else break;
  }
  return done;
}

function revokedBlocks(data: Buffer, features: number): number[] {
  const bytes = features & feature.wide ? 8 : 4;
  const blocks: number[] = [];
  const end = Math.min(data.readUInt32BE(12), data.length);
  for (let at = 16; at + bytes <= end; at += bytes) blocks.push(bytes === 8 ? Number(data.readBigUInt64BE(at)) : data.readUInt32BE(at));
  return blocks;
}

function* tagsIn(data: Buffer, features: number): Generator<{ to: number; escaped: boolean }> {
  const long = (features & feature.longTags) !== 0;
  const wide = (features & feature.wide) !== 0;
  const bytes = long ? 16 : wide ? 12 : 8;
  const end = data.length - (features & feature.checksums ? 4 : 0);
  for (let at = 12; at + bytes <= end;) {
    const flags = long ? data.readUInt32BE(at + 4) : data.readUInt16BE(at + 6);
    const high = wide ? data.readUInt32BE(at + 8) : 0;
    yield { to: data.readUInt32BE(at) + high * 2 ** 32, escaped: (flags & tagFlag.escaped) !== 0 };
    if (flags & tagFlag.last) return;
    at += bytes + (flags & tagFlag.sameUuid ? 0 : 16);
  }
}
