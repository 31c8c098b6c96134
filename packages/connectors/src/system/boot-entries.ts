import fs from 'node:fs';

/** An entry of the firmware that the machine can be started by; `file`: what it starts, '' where it names none. */
export interface BootEntry {
  label: string;
  first: boolean;
  file: string;
}

/** Variables that the firmware keeps under the vendor's name of the standard. */
const ofFirmware = '8be4df61-93ca-11d2-aa0d-00e098032b8c';
const mostBytes = 64 << 10;

/** What a variable of the firmware holds, without the four bytes of flags before it; undefined where it is not there. */
function variable(folder: string, name: string): Buffer | undefined {
  const file = `${folder}/${name}-${ofFirmware}`;
  try {
    return fs.statSync(file).size > mostBytes ? undefined : fs.readFileSync(file).subarray(4);
  } catch {
    return undefined;
  }
}

/** Entries of the firmware that are started from, in their order. Source of the layout: UEFI specification 2.10, 3.1.3 (load options) and 10.3 (device paths). */
export function readBootEntries(folder: string): BootEntry[] {
  const order = variable(folder, 'BootOrder') ?? Buffer.alloc(0);
  const entries: BootEntry[] = [];
  for (let at = 0; at + 2 <= order.length && entries.length < 64; at += 2) {
    const number = order.readUInt16LE(at).toString(16).toUpperCase().padStart(4, '0');
    const option = variable(folder, `Boot${number}`);
    if (!option || option.length < 8) continue;
    const [label, rest] = wideText(option.subarray(6));
    entries.push({
      label: label.slice(0, 400),
      first: entries.length === 0,
      file: fileOf(rest.subarray(0, option.readUInt16LE(4))).slice(0, 400),
    });
  }
  return entries;
}

/** Text of two bytes a letter up to its end, and what follows. */
function wideText(bytes: Buffer): [string, Buffer] {
  let end = 0;
  while (end + 2 <= bytes.length && bytes.readUInt16LE(end) !== 0) end += 2;
  return [bytes.subarray(0, end).toString('utf16le'), bytes.subarray(end + 2)];
}

/** The file that a device path ends with; '' where it names none. */
function fileOf(path: Buffer): string {
  for (let at = 0; at + 4 <= path.length;) {
    const length = path.readUInt16LE(at + 2);
    if (length < 4 || at + length > path.length) return '';
    if (path[at] === 4 && path[at + 1] === 4) return wideText(path.subarray(at + 4, at + length))[0];
    at += length;
  }
  return '';
}
