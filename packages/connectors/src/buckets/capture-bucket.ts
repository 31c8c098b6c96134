import { isOlder, keyOfPath } from '@lithodex/core';
import { topEntry, type StreamStored, type TreeEntry } from '@lithodex/engine';
import { frozenClasses, type BucketFrom, type BucketPoint, type BucketService, type ObjectFacts } from '@lithodex/kinds';
import type { PointWriting } from '../capture-store';
import type { CaptureContext, PointContent } from '../connector';
import { ItemWriting } from '../item-writing';
import { SlidingWork } from '../sliding-work';
import { isSourceError, SourceError } from '../source-error';
import { BucketClient, type OpenObject } from './bucket-client';
import { endsAll } from './bucket-errors';
import { inTreeOrder, type PlacedObject } from './in-tree-order';
import { listObjects } from './list-objects';
import { listVersions, ruledAs, type OlderVersion, type PlacedVersion } from './older-versions';
import { hasTag, withObjectFacts } from './object-facts';
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
      return await new BucketCapture(ctx, writing, client, server).run();
    } finally {
      await client.close();
    }
  });
}

class BucketCapture {
  private readonly out: ItemWriting;
  private readonly classes: Record<string, number> = {};
  private accessLists: boolean;
  private readonly older: { versions: number; markers: number; since: number | null } | null;
  private objects = 0;

  constructor(
    private readonly ctx: CaptureContext,
    private readonly writing: PointWriting,
    private readonly client: BucketClient,
    { accessLists, versions }: Pick<BucketService, 'accessLists' | 'versions'>,
  ) {
    this.out = new ItemWriting(ctx, writing);
    this.accessLists = accessLists;
    this.older = versions ? { versions: 0, markers: 0, since: null } : null;
  }

  async run(): Promise<PointContent> {
    const { ctx, out, client, writing } = this;
    const settings = await client.settings();
    const passed = () => {
      out.goOn();
    };
    const { pages, older } = this.older ? await listVersions(client, passed) : { pages: await listObjects(client, passed), older: [] };
    const work = new SlidingWork(atOnce);
    const base = ctx.base && topEntry(ctx.base);
    const { top } = await makeObjectTree(
      {
        put: writing.put,
        trees: ctx.store.trees,
        base,
        leftOut: (path, isFolder) => {
          if (!isOlder(path)) return out.leftOut(path, isFolder);
          const asked = ruledAs(path, isFolder);
          return asked !== undefined && out.leftOut(asked.path, asked.isFolder);
        },
        beside: (piece) => work.add(piece),
        passed: () => {
          out.goOn();
          return out.passed();
        },
        asBefore: (object, before) => this.asBefore(object, before),
        take: (object, name, path, before) => this.take(object, name, path, before),
      },
      inTreeOrder(pages, older),
    );
    await work.idle();
    const entry = top();
    await out.passed();
    const counts = await writing.finish();
    const facts: BucketPoint = {
      kind: 'bucket',
      bucket: client.bucket,
      ...settings,
      objects: this.objects,
      bytes: entry.folder?.bytes ?? 0,
      classes: this.classes,
      older: this.older,
      asked: { ...client.asked },
    };
    return out.pointOf(entry, counts, { kind: 'bucket', version: 1, facts, state: {} });
  }

  private async take(
    object: PlacedObject | PlacedVersion,
    name: string,
    path: string,
    before: TreeEntry | undefined,
  ): Promise<TreeEntry | null> {
    const { out } = this;
    out.goOn();
    const older = 'older' in object ? object.older : undefined;
    try {
      if (older?.marker) {
        this.count(object);
        const facts = { ...noFacts, marker: true, newer: older.newer, version: older.id };
        return { ...objectEntry(name, object.mtime), attributes: withObjectFacts(facts) };
      }
      if (frozenClasses.includes(object.class)) throw new SourceError('OBJECT_FROZEN', object.class);
      const entry = await this.read(older?.key ?? keyOfPath(path), name, object, older);
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

  private asBefore(object: PlacedObject | PlacedVersion, before: TreeEntry): TreeEntry | undefined {
    if (!isAsBefore(before, object)) return undefined;
    this.count(object);
    this.out.progress.bytes += before.size;
    return before;
  }

  private count(object: PlacedObject | PlacedVersion): void {
    this.out.progress.items++;
    this.out.progress.files++;
    if ('older' in object) {
      const older = this.older!;
      if (object.older.marker) older.markers++;
      else older.versions++;
      older.since = Math.min(older.since ?? object.mtime, object.mtime);
      return;
    }
    this.objects++;
    this.classes[object.class] = (this.classes[object.class] ?? 0) + 1;
  }

  private async read(key: string, name: string, listed: PlacedObject, older: OlderVersion | undefined): Promise<TreeEntry> {
    let object: Pick<PlacedObject, 'size' | 'etag'> = listed;
    const version = older?.id ?? listed.id;
    for (let time = 1; ; time++)
      try {
        const { stored, opened } = object.size > partBytes ? await this.inParts(key, object, version) : await this.atOnce(key, version);
        const facts = await this.allFacts(key, opened, version);
        // the listing tells the time more closely
        const mtime = opened.facts.etag === listed.etag ? listed.mtime : opened.mtime;
        const attributes = withObjectFacts(older ? { ...facts, newer: older.newer } : facts);
        return { ...objectEntry(name, mtime), ...asEntry(stored), attributes };
      } catch (error) {
        if (!isSourceError(error, 'OBJECT_CHANGED') || time === mostTimes) throw error;
        const now = await this.client.head(key);
        if (!now) throw new SourceError('OBJECT_GONE', key);
        object = now;
      }
  }

  private async atOnce(key: string, version: string | undefined): Promise<{ stored: StreamStored; opened: OpenObject }> {
    const opened = await this.client.open(key, undefined, version);
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
    version: string | undefined,
  ): Promise<{ stored: StreamStored; opened: OpenObject }> {
    const { client, out } = this;
    const opened = await client.open(key, { from: 0, to: Math.min(size, partBytes), etag }, version);
    const pieces = async function* () {
      yield* opened.body;
      for (let from = partBytes; from < size; from += partBytes)
        yield* (await client.open(key, { from, to: Math.min(size, from + partBytes), etag }, version)).body;
    };
    return { opened, stored: whole(key, opened.size, await out.streamed(pieces())) };
  }

  private async allFacts(key: string, { facts, tagCount }: OpenObject, version: string | undefined): Promise<ObjectFacts> {
    const tags = this.mayHaveTags(tagCount) ? await this.client.tags(key, version).catch(this.without('tags')) : undefined;
    if (tags?.length && tagCount === null) this.tagsUncounted = true;
    const grants = this.accessLists ? await this.client.grants(key, version).catch(this.without('access lists')) : undefined;
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

const noFacts: ObjectFacts = { etag: '', headers: {}, notes: {}, tags: [], class: 'STANDARD', version: '', encryption: '' };
const asEntry = ({ size, content, random }: StreamStored) => ({ size, ...(content && { content }), ...(random && { random }) });

function whole(key: string, size: number, stored: StreamStored): StreamStored {
  if (stored.size !== size) throw new SourceError('BUCKET_FAILED', `${key}: ${stored.size} bytes came of ${size}`);
  return stored;
}

/** Whether an object is the one of the point before, as the listing tells. */
function isAsBefore(before: TreeEntry, { size, mtime, etag }: PlacedObject): boolean {
  if (before.kind !== 'file' || before.unread || before.size !== size) return false;
  return etag !== '' && sameSecond(before.mtimeNs, mtime) && hasTag(before, etag);
}

/** Listings tell the time to the millisecond, answers for one object to the second. */
const sameSecond = (mtimeNs: bigint, mtime: number) => mtimeNs / 1_000_000_000n === BigInt(Math.floor(mtime / 1000));
