/** A file or folder as a listing tells it; `mtime` in ms, to the second. */
export interface ListedFile {
  readonly name: string;
  readonly isFolder: boolean;
  readonly size: number;
  readonly mtime: number;
  /** Letters: R, H, S, A. */
  readonly attributes: string;
}

const months = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec'];
const ending = /(\d+) {2}\w{3} (\w{3}) +(\d{1,2}) (\d{2}):(\d{2}):(\d{2}) (\d{4})$/;
/** Bytes that a name is filled up to, and signs that letters and sizes are. */
const [nameBytes, letterSigns, sizeSigns] = [30, 7, 8];

/** A line of a listing; undefined for what is none. Names may hold anything but `/`, so that it is read from its end. */
export function listedFile(line: string): ListedFile | undefined {
  const found = ending.exec(line);
  if (!line.startsWith('  ') || !found) return undefined;
  const [, size = '', month = '', day, hour, minute, second, year] = found;
  const letters = found.index - Math.max(0, sizeSigns - size.length) - 1 - letterSigns;
  const padded = line.slice(2, letters);
  if (letters < 3) return undefined;
  const attributes = line.slice(letters, letters + letterSigns);
  return {
    name: Buffer.byteLength(padded) > nameBytes ? padded : padded.trimEnd(),
    isFolder: attributes.includes('D'),
    size: Number(size),
    mtime: Date.UTC(Number(year), months.indexOf(month), Number(day), Number(hour), Number(minute), Number(second)),
    attributes: attributes.replace(/[^RHSA]/g, ''),
  };
}

/** What no name of the protocol holds: who says such names means another place. */
const misleading = /[\\/\0]/;

/** What a folder holds, without itself and what is above it, and without what is no name. */
export function listedFiles(lines: readonly string[]): ListedFile[] {
  return lines.flatMap((line) => {
    const file = listedFile(line);
    return file && file.name !== '.' && file.name !== '..' && !misleading.test(file.name) ? [file] : [];
  });
}

/** Entries of the shares that a server offers: name and what its owner says of it. Those of administrators and printers are left out. */
export function offeredShares(text: string): { readonly name: string; readonly comment: string }[] {
  return text.split('\n').flatMap((line) => {
    const [kind, name = '', ...comment] = line.split('|');
    return kind === 'Disk' && name !== '' && !name.endsWith('$') ? [{ name, comment: comment.join('|').slice(0, 300) }] : [];
  });
}

interface Access {
  readonly owner: string;
  readonly group: string;
  readonly entries: [string, number, number, number][];
}

/** Who may do what with an item, as the program tells it of one; undefined where it does not. */
export function accessOf(lines: readonly string[]): Access | undefined {
  let [owner, group] = ['', ''];
  const entries: [string, number, number, number][] = [];
  let entry: { type?: number; flags?: number; mask?: number } = {};
  for (const line of lines) {
    const head = /^\s*type: .*\((\d+)\) flags: 0x([0-9a-f]+)/i.exec(line);
    if (head) entry = { type: Number(head[1]), flags: Number.parseInt(head[2]!, 16) };
    const rights = /^\s*Permissions: 0x([0-9a-f]+)/i.exec(line);
    if (rights) entry.mask = Number.parseInt(rights[1]!, 16);
    const of = /^\s*SID: (S-[\d-]+)/.exec(line);
    if (of && entry.type !== undefined && entry.mask !== undefined) {
      entries.push([of[1]!, entry.type, entry.flags ?? 0, entry.mask]);
      entry = {};
    }
    owner = /^\s*Owner SID:\s*(S-[\d-]+)/.exec(line)?.[1] ?? owner;
    group = /^\s*Group SID:\s*(S-[\d-]+)/.exec(line)?.[1] ?? group;
  }
  return owner === '' ? undefined : { owner, group, entries };
}
