import { ByteReader, ByteWriter } from '../format/byte-io';

/** What became of a file. */
export interface FileDone {
  /** The packed entry. */
  readonly entry: Buffer;
  readonly size: number;
  /** Bytes read from the source. */
  readonly read: number;
  /** It changed while it was read. */
  readonly torn: boolean;
  /** Same for all names of one file; '' where it has one. */
  readonly hardId: string;
  /** Why its extended attributes are not kept: code of the system; '' when they are. */
  readonly attributesFailed: string;
}
export interface FileFailed {
  /** Why nothing could be read: code of the system, or REPLACED when it is no file any more. */
  readonly failed: string;
}
export type FileResult = FileDone | FileFailed;

const flag = { done: 1, torn: 2, linked: 4, attributesFailed: 8 };

/** Results of a batch as one piece of memory, so that they pass from thread to thread without being copied or cloned. */
export class FileResults {
  private readonly out = new ByteWriter();

  failed(code: string): void {
    this.out.u8(0);
    this.out.text(code);
  }

  done(r: FileDone): void {
    this.out.u8(flag.done | (r.torn ? flag.torn : 0) | (r.hardId ? flag.linked : 0) | (r.attributesFailed ? flag.attributesFailed : 0));
    this.out.varint(r.size);
    this.out.varint(r.read);
    this.out.blob(r.entry);
    if (r.hardId) this.out.text(r.hardId);
    if (r.attributesFailed) this.out.text(r.attributesFailed);
  }

  /** Everything so far in memory of its own; begins anew. */
  take(): Uint8Array<ArrayBuffer> {
    const data = new Uint8Array(this.out.view());
    this.out.clear();
    return data;
  }
}

/** Calls `visit` with every result and its number. The entries are views. */
export function readResults(data: Uint8Array, visit: (result: FileResult, at: number) => void): void {
  const r = new ByteReader(Buffer.from(data.buffer, data.byteOffset, data.length));
  for (let at = 0; r.left > 0; at++) {
    const flags = r.u8();
    if (flags === 0) visit({ failed: r.text() }, at);
    else
      visit(
        {
          size: r.varint(),
          read: r.varint(),
          entry: r.blob(),
          torn: (flags & flag.torn) !== 0,
          hardId: flags & flag.linked ? r.text() : '',
          attributesFailed: flags & flag.attributesFailed ? r.text() : '',
        },
        at,
      );
  }
}
