/** Where a person put a volume, and how large: `disk` null where it is left out. Bytes. */
export interface Edit {
  readonly device: string;
  readonly disk: string | null;
  readonly bytes: number;
}

/** Edits as they stand in an address: device, disk and bytes of each. */
export function writeEdits(edits: readonly Edit[]): string {
  return edits
    .map(({ device, disk, bytes }) => [device, disk ?? '', Math.round(bytes)].map((p) => encodeURIComponent(p)).join(':'))
    .join(',');
}

/** Edits of an address; what is none is passed over. */
export function readEdits(text: string): Edit[] {
  return text.split(',').flatMap((part): Edit[] => {
    const [device = '', disk = '', size = ''] = part.split(':').map(decoded);
    const bytes = Number(size);
    return device !== '' && size !== '' && bytes > 0 && Number.isSafeInteger(bytes) ? [{ device, disk: disk || null, bytes }] : [];
  });
}

function decoded(text: string): string {
  try {
    return decodeURIComponent(text);
  } catch {
    return '';
  }
}
