import { keyOfPath } from '@lithodex/core';
import { topEntry, type StreamStored, type TreeEntry } from '@lithodex/engine';
import { frozenClasses, type BucketFrom, type BucketPoint, type ObjectFacts } from '@lithodex/kinds';
import type { PointWriting } from '../capture-store';
import type { CaptureContext, PointContent } from '../connector';
import { ItemWriting } from '../item-writing';
import { SlidingWork } from '../sliding-work';
import { isSourceError, SourceError } from '../source-error';
import { BucketClient, type OpenObject } from './bucket-client';
import { endsAll } from './bucket-errors';
import { inTreeOrder, type PlacedObject } from './in-tree-order';
import { listObjects } from './list-objects';
import { objectFacts, withObjectFacts } from './object-facts';
import { makeObjectTree, objectEntry } from './object-tree';

/** New chunks that are made room for. */
const expectedChunks = 131_072;
/** So many objects are on their way at once. */
const atOnce = 32;
/** Larger objects come in parts. */
const partBytes = 16 << 20;
/** So many objects that say nothing of tags are asked for them. */
const mostTagsTried = 100;
/** An object that changes while it is read is begun again so often. */
const mostTimes = 3;

/** Takes the objects of a bucket: those that are as the point before has them are not read. Throws SourceError. */
export function captureBucket(ctx: CaptureContext, { server, bucket }: BucketFrom): Promise<PointContent> {
  const writing = ctx.store.begin(expectedChunks, ctx.fresh);
  return writing.during(async () => {
    const client = new BucketClient(server, bucket);
    try {
      return await new BucketCapture(ctx, writing, client, server.accessLists).run();
    } finally {
      await client.close();
    }
  });
}

class BucketCapture {
  private readonly out: ItemWriting;
  private readonly classes: Record<string, number> = {};
  private accessLists: boolean;

  constructor(
    private readonly ctx: CaptureContext,
    private readonly writing: PointWriting,
    private readonly client: BucketClient,
    accessLists: boolean,
  ) {
    this.out = new ItemWriting(ctx, writing);
    this.accessLists = accessLists;
  }

  async run(): Promise<PointContent> {
    const { ctx, out, client, writing } = this;
    const settings = await client.settings();
    const pages = await listObjects(client, () => {
      out.goOn();
    });
    const work = new SlidingWork(atOnce);
    const base = ctx.base && topEntry(ctx.base);
    const { top } = await makeObjectTree(
      {
        put: writing.put,
        trees: ctx.store.trees,
        base,
        leftOut: (path, isFolder) => out.leftOut(path, isFolder),
        beside: (piece) => work.add(piece),
        passed: () => {
          out.goOn();
          return out.passed();
        },
        take: (object, name, path, before) => this.take(object, name, path, before),
      },
      inTreeOrder(pages),
    );
    await work.idle();
    const entry = top();
    await out.passed();
    const counts = await writing.finish();
    const facts: BucketPoint = {
      kind: 'bucket',
      bucket: client.bucket,
      ...settings,
      objects: out.progress.files,
      bytes: entry.folder?.bytes ?? 0,
      classes: this.classes,
      asked: { ...client.asked },
    };
    return {
      top: entry,
      totals: {
        items: entry.folder?.items ?? 0,
        files: out.progress.files,
        bytes: entry.folder?.bytes ?? 0,
        read: out.progress.read,
        ...counts,
      },
      owners: {},
      groups: {},
      leftOut: { include: ctx.include, exclude: ctx.exclude, byItself: [] },
      warnings: out.warnings,
      content: { kind: 'bucket', version: 1, facts, state: {} },
    };
  }

  private async take(object: PlacedObject, name: string, path: string, before: TreeEntry | undefined): Promise<TreeEntry | null> {
    const { out } = this;
    out.goOn();
    if (before && isAsBefore(before, object)) {
      this.count(object);
      out.progress.bytes += before.size;
      return before;
    }
    try {
      if (frozenClasses.includes(object.class)) throw new SourceError('OBJECT_FROZEN', object.class);
      const entry = await this.read(keyOfPath(path), name, object);
      this.count(object);
      return entry;
    } catch (error) {
      if (!(error instanceof SourceError) || endsAll(error)) throw error;
      // it was deleted since it was listed
      if (error.code === 'OBJECT_GONE') return null;
      out.warn('OBJECT_UNREAD', path, error.message, true);
      this.count(object);
      return { ...(before?.kind === 'file' ? before : objectEntry(name, object.mtime)), unread: true };
    }
  }

  private count(object: PlacedObject): void {
    this.out.progress.items++;
    this.out.progress.files++;
    this.classes[object.class] = (this.classes[object.class] ?? 0) + 1;
  }

  private async read(key: string, name: string, listed: PlacedObject): Promise<TreeEntry> {
    let object: Pick<PlacedObject, 'size' | 'etag'> = listed;
    for (let time = 1; ; time++)
      try {
        const { stored, opened } = object.size > partBytes ? await this.inParts(key, object) : await this.atOnce(key);
        const facts = await this.allFacts(key, opened);
        return { ...objectEntry(name, opened.mtime), ...asEntry(stored), attributes: withObjectFacts(facts) };
      } catch (error) {
        if (!isSourceError(error, 'OBJECT_CHANGED') || time === mostTimes) throw error;
        const now = await this.client.head(key);
        if (!now) throw new SourceError('OBJECT_GONE', key);
        object = now;
      }
  }

  private async atOnce(key: string): Promise<{ stored: StreamStored; opened: OpenObject }> {
    const opened = await this.client.open(key);
    // it may have grown since it was listed
    if (opened.size > partBytes) return { opened, stored: whole(key, opened.size, await this.out.streamed(opened.body)) };
    const parts: Uint8Array[] = [];
    for await (const part of opened.body) parts.push(part);
    const data = Buffer.concat(parts);
    return { opened, stored: whole(key, opened.size, await this.out.content(data)) };
  }

  private async inParts(
    key: string,
    { size, etag }: Pick<PlacedObject, 'size' | 'etag'>,
  ): Promise<{ stored: StreamStored; opened: OpenObject }> {
    const { client, out } = this;
    const opened = await client.open(key, { from: 0, to: Math.min(size, partBytes), etag });
    const pieces = async function* () {
      yield* opened.body;
      for (let from = partBytes; from < size; from += partBytes)
        yield* (await client.open(key, { from, to: Math.min(size, from + partBytes), etag })).body;
    };
    return { opened, stored: whole(key, opened.size, await out.streamed(pieces())) };
  }

  private async allFacts(key: string, { facts, tagCount }: OpenObject): Promise<ObjectFacts> {
    const tags = this.mayHaveTags(tagCount) ? await this.client.tags(key).catch(this.without('tags')) : undefined;
    if (tags?.length && tagCount === null) this.tagsUncounted = true;
    const grants = this.accessLists ? await this.client.grants(key).catch(this.without('access lists')) : undefined;
    return { ...facts, ...(tags && { tags }), ...(grants && { grants }) };
  }

  /** Most services count the tags of an object where it has any; of one that does not, the first objects show it. */
  private mayHaveTags(count: number | null): boolean {
    if (this.told.has('tags')) return false;
    if (count !== null) return count > 0;
    return this.tagsUncounted || this.tagsTried++ < mostTagsTried;
  }
  private tagsUncounted = false;
  private tagsTried = 0;

  /** What an account may not ask, or a service does not know, is said once and not asked again. */
  private readonly without =
    (what: string) =>
    (error: unknown): undefined => {
      if (!(error instanceof SourceError) || !['BUCKET_RIGHT_MISSING', 'BUCKET_FAILED', 'OBJECT_GONE'].includes(error.code)) throw error;
      if (what === 'access lists') this.accessLists = false;
      if (!this.told.has(what)) this.out.warn('FACTS_UNREAD', '', `${what} of objects can not be read: ${error.message}`, false);
      this.told.add(what);
    };
  private readonly told = new Set<string>();
}

const asEntry = ({ size, content, random }: StreamStored) => ({ size, ...(content && { content }), ...(random && { random }) });

function whole(key: string, size: number, stored: StreamStored): StreamStored {
  if (stored.size !== size) throw new SourceError('BUCKET_FAILED', `${key}: ${stored.size} bytes came of ${size}`);
  return stored;
}

/** Whether an object is the one of the point before, as the listing tells. */
function isAsBefore(before: TreeEntry, { size, mtime, etag }: PlacedObject): boolean {
  if (before.kind !== 'file' || before.unread || before.size !== size) return false;
  const facts = objectFacts(before);
  return facts?.etag === etag && etag !== '' && sameSecond(before.mtimeNs, mtime);
}

/** Listings tell the time to the millisecond, answers for one object to the second. */
const sameSecond = (mtimeNs: bigint, mtime: number) => mtimeNs / 1_000_000_000n === BigInt(Math.floor(mtime / 1000));
