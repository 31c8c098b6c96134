import { checkPlace, type Blocks } from '../blocks';
import { damaged } from '../errors';
import { u64le } from '../number-at';
import { listIn, numberIn, readLvmText, sectionAt, sectionsIn, textIn, type LvmSection } from './lvm-text';

const sector = 512;
const mostText = 16 << 20;
/** So many segments or stripes a volume may have. */
const mostPieces = 65_536;

/** A stretch of a disk that belongs to a group of volumes of LVM2. */
export interface PhysicalVolume {
  readonly id: string;
  readonly blocks: Blocks;
  readonly group: LvmSection;
  readonly groupName: string;
  /** Rises with every change: of several descriptions the newest counts. */
  readonly sequence: number;
}

/** A logical volume: its bytes where they can be read, or why not. */
export interface LogicalVolume {
  readonly name: string;
  readonly size: number;
  /** Id of the physical volume its first segment lies on. */
  readonly firstOn: string;
  readonly blocks: Blocks | undefined;
  readonly why: string;
}

/** Reads the label and the newest description of a physical volume (lib/format_text/layout.h of LVM2); undefined where there is none. */
export async function physicalVolume(blocks: Blocks): Promise<PhysicalVolume | undefined> {
  if (blocks.size < 4 * sector) return undefined;
  const front = await blocks.read(0, 4 * sector);
  for (let at = 0; at < front.length; at += sector) {
    if (front.toString('latin1', at, at + 8) !== 'LABELONE' || front.toString('latin1', at + 24, at + 32) !== 'LVM2 001') continue;
    const header = at + front.readUInt32LE(at + 20);
    const id = front.toString('latin1', header, header + 32);
    const metadata = areasAt(front, header + 40);
    for (const { offset, size } of metadata) {
      const text = await descriptionAt(blocks, offset, size);
      if (!text) continue;
      const [groupName, group] = sectionsIn(readLvmText(text))[0] ?? [];
      if (groupName === undefined || !group) throw damaged('description of volumes');
      return { id, blocks, group, groupName, sequence: numberIn(group, 'seqno') };
    }
    return { id, blocks, group: {}, groupName: '', sequence: -1 };
  }
  return undefined;
}

/** The areas of metadata, which follow those of data in the list; each list ends with zeros. */
function areasAt(data: Buffer, start: number): { offset: number; size: number }[] {
  const areas: { offset: number; size: number }[] = [];
  let lists = 0;
  for (let at = start; lists < 2 && at + 16 <= data.length; at += 16) {
    const [offset, size] = [u64le(data, at), u64le(data, at + 8)];
    if (offset === 0) lists++;
    else if (lists === 1) areas.push({ offset, size });
  }
  return areas;
}

async function descriptionAt(blocks: Blocks, at: number, size: number): Promise<string | undefined> {
  checkPlace(blocks, at, sector);
  const header = await blocks.read(at, sector);
  if (!header.toString('latin1', 4, 20).startsWith(' LVM2 x[5A%r0N*>')) throw damaged('metadata of volumes');
  const [offset, length] = [u64le(header, 40), u64le(header, 48)];
  if (offset === 0) return undefined;
  if (length > mostText || offset >= size) throw damaged('metadata of volumes');
  // the area is written round and round behind its header
  const first = Math.min(length, size - offset);
  const parts = [await blocks.read(at + offset, first)];
  if (first < length) parts.push(await blocks.read(at + sector, length - first));
  return Buffer.concat(parts).toString('utf8').replaceAll('\0', '');
}

/** The volumes of all groups that these stretches belong to. */
export function logicalVolumes(found: readonly PhysicalVolume[]): LogicalVolume[] {
  const groups = new Map<string, PhysicalVolume>();
  for (const one of found) {
    const known = groups.get(one.groupName);
    if (one.sequence >= 0 && (!known || one.sequence > known.sequence)) groups.set(one.groupName, one);
  }
  const byId = new Map(found.map((p) => [p.id, p.blocks]));
  return [...groups.values()].flatMap(({ group, groupName }) => volumesOf(group, groupName, byId));
}

interface Piece {
  /** Bytes in the volume. */
  readonly offset: number;
  readonly size: number;
  readonly stripe: number;
  readonly on: readonly { readonly blocks: Blocks; readonly at: number }[];
}

function volumesOf(group: LvmSection, groupName: string, byId: ReadonlyMap<string, Blocks>): LogicalVolume[] {
  if (!group['logical_volumes']) return [];
  const extent = numberIn(group, 'extent_size') * sector;
  const physical = new Map(
    sectionsIn(sectionAt(group, 'physical_volumes')).map(([name, section]) => {
      const id = textIn(section, 'id').replaceAll('-', '');
      return [name, { id, blocks: byId.get(id), start: numberIn(section, 'pe_start') * sector }];
    }),
  );
  const volumes: LogicalVolume[] = [];
  for (const [name, section] of sectionsIn(sectionAt(group, 'logical_volumes'))) {
    if (!listIn(section, 'status').includes('VISIBLE')) continue;
    const own = { name: `${groupName}-${name}` };
    const pieces: Piece[] = [];
    let why = '';
    let firstOn = '';
    for (const [, segment] of sectionsIn(section)) {
      const type = textIn(segment, 'type');
      const offset = numberIn(segment, 'start_extent') * extent;
      const size = numberIn(segment, 'extent_count') * extent;
      if (type !== 'striped') {
        why ||= `volumes of the type ${type} are not read`;
        pieces.push({ offset, size, stripe: 0, on: [] });
        continue;
      }
      const stripes = listIn(segment, 'stripes');
      const on: { blocks: Blocks; at: number }[] = [];
      for (let i = 0; i + 1 < stripes.length; i += 2) {
        const named = stripes[i];
        const place = typeof named === 'string' ? physical.get(named) : undefined;
        if (!place) throw damaged('stripes of a volume');
        firstOn ||= place.id;
        if (!place.blocks) why ||= 'a disk that it lies on is not in this point';
        else on.push({ blocks: place.blocks, at: place.start + Number(stripes[i + 1]) * extent });
      }
      const stripe = stripes.length > 2 ? numberIn(segment, 'stripe_size') * sector : size;
      if (stripe === 0 || on.length > mostPieces || pieces.length > mostPieces) throw damaged('stripes of a volume');
      pieces.push({ offset, size, stripe, on });
    }
    pieces.sort((a, b) => a.offset - b.offset);
    const size = pieces.reduce((end, p) => Math.max(end, p.offset + p.size), 0);
    volumes.push({ ...own, size, firstOn, why, blocks: why ? undefined : blocksOf(pieces, size) });
  }
  return volumes;
}

function blocksOf(pieces: readonly Piece[], size: number): Blocks {
  /** Where the parts of a stretch lie, in order. */
  function* partsOf(offset: number, length: number): Generator<{ blocks: Blocks; at: number; count: number }> {
    checkPlace({ size }, offset, length);
    for (let at = offset; at < offset + length;) {
      const piece = pieces.find((p) => at >= p.offset && at < p.offset + p.size);
      if (!piece) throw damaged('a hole in a volume');
      const within = at - piece.offset;
      const row = Math.floor(within / piece.stripe);
      const inStripe = within % piece.stripe;
      const count = Math.min(offset + length - at, piece.stripe - inStripe, piece.size - within);
      const place = piece.on[row % piece.on.length];
      if (!place) throw damaged('stripes of a volume');
      yield { blocks: place.blocks, at: place.at + Math.floor(row / piece.on.length) * piece.stripe + inStripe, count };
      at += count;
    }
  }
  return {
    size,
    async read(offset, length) {
      const parts: Buffer[] = [];
      for (const { blocks, at, count } of partsOf(offset, length)) parts.push(await blocks.read(at, count));
      return parts.length === 1 ? parts[0]! : Buffer.concat(parts);
    },
    stretches: (offset, length) =>
      [...partsOf(offset, length)].flatMap(({ blocks, at, count }) => blocks.stretches?.(at, count) ?? [{ length: count, hole: false }]),
  };
}
