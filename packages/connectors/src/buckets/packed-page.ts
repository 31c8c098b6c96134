import type { ListedObject } from './bucket-client';

const md5Form = /^[0-9a-f]{32}$/;
const md5Bytes = 16;

/** A page of a listing in little memory: a bucket may hold millions of objects, all of which are known at once. */
export class PackedPage {
  private readonly keys: Buffer;
  private readonly ends: Uint32Array;
  private readonly sizes: Float64Array;
  private readonly times: Float64Array;
  private readonly sums: Buffer;
  /** ETags that are no sums, and classes, by place. */
  private readonly otherTags = new Map<number, string>();
  private readonly otherClasses = new Map<number, string>();
  private readonly ids: readonly (string | undefined)[] | undefined;

  constructor(objects: readonly ListedObject[]) {
    this.keys = Buffer.from(objects.map((o) => o.key).join(''), 'utf8');
    this.ends = new Uint32Array(objects.length);
    this.sizes = Float64Array.from(objects, (o) => o.size);
    this.times = Float64Array.from(objects, (o) => o.mtime);
    this.sums = Buffer.alloc(objects.length * md5Bytes);
    if (objects.some((o) => o.id !== undefined)) this.ids = objects.map((o) => o.id);
    let end = 0;
    objects.forEach(({ key, etag, class: own }, i) => {
      end += Buffer.byteLength(key);
      this.ends[i] = end;
      if (md5Form.test(etag)) this.sums.write(etag, i * md5Bytes, 'hex');
      else this.otherTags.set(i, etag);
      if (own !== 'STANDARD') this.otherClasses.set(i, own);
    });
  }

  get length(): number {
    return this.ends.length;
  }

  key(i: number): string {
    return this.keys.toString('utf8', i === 0 ? 0 : this.ends[i - 1]!, this.ends[i]);
  }

  /** What is known of an object beside its key. */
  facts(i: number): Omit<ListedObject, 'key'> {
    return {
      size: this.sizes[i]!,
      mtime: this.times[i]!,
      etag: this.otherTags.get(i) ?? this.sums.toString('hex', i * md5Bytes, (i + 1) * md5Bytes),
      class: this.otherClasses.get(i) ?? 'STANDARD',
      ...(this.ids?.[i] !== undefined && { id: this.ids[i] }),
    };
  }
}
