import { createHash, randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { duplexPair, type Duplex } from 'node:stream';
import {
  captureThrough,
  closePools,
  connectorOf,
  HostLimits,
  readThrough,
  surveyThrough,
  type AfarContext,
  type Said,
} from '@lithodex/connectors';
import { ByteWriter, DiskFolder, packEntry, Store, topEntry, writeEntry, type TreeEntry } from '@lithodex/engine';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { FrameLink } from '../../../connectors/src/afar/frames';
import { fromReader } from '../../../connectors/src/afar/messages';
import { itLong } from '../../../../tests/support/by-command';
import { makeNastyTree, temporaryFolder } from '../../../../tests/support/nasty-tree';
import { folderTree, pointRequest, quietly } from '../../../../tests/support/store-kit';
import { takePoint, type PointRequest, type TakenPoint } from './take-point';

let base: string;
let store: Store;

beforeEach(async () => {
  base = temporaryFolder('afar');
  fs.mkdirSync(`${base}/store`);
  fs.mkdirSync(`${base}/source`);
  store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
});

afterEach(async () => {
  await closePools();
  fs.rmSync(base, { recursive: true, force: true });
});

const files = await connectorOf('files');

/** What the mover at the source does, as it should. */
function reads(stream: Duplex): void {
  const from = folderTree(`${base}/source`);
  void readThrough(stream, {
    capture: (ctx) => files.capture(ctx, from),
    survey: (ctx) => files.survey(ctx, from),
    limits: HostLimits.none,
    stopped: () => false,
  });
}

async function take(
  taskId: string,
  previous: string | null,
  more: Partial<PointRequest> = {},
  reader = reads,
): Promise<TakenPoint & { said: Said[] }> {
  const said: Said[] = [];
  const from = { kind: 'afar', mover: 'tide-gauge', of: 'files' } as const;
  const request = pointRequest(`${base}/source`, taskId, previous, { from, ...more });
  const afar = (_mover: string, ctx: AfarContext) => {
    const [near, far] = duplexPair();
    reader(far);
    return captureThrough(near, store, ctx);
  };
  const taken = await takePoint(store, request, { ...quietly, now: () => 2000, warn: (w) => said.push(w), afar });
  return { ...taken, said };
}

/** Everything a point says of its items, and the sums of what they hold. */
async function listed(entry: TreeEntry, path = ''): Promise<string[]> {
  const { folder, content, mtimeNs, ctimeNs, attributes, ...rest } = entry;
  const sum = createHash('sha256');
  for await (const { names } of store.trees.contentParts(content))
    for (let at = 0; at < names.length; at += 32) sum.update(await store.reader.read(names.subarray(at, at + 32)));
  const texts = [`${path} ${JSON.stringify(rest)} ${mtimeNs} ${ctimeNs} ${JSON.stringify(attributes)} ${sum.digest('hex')}`];
  if (folder) for (const child of await store.trees.folder(folder.node)) texts.push(...(await listed(child, `${path}/${child.name}`)));
  return texts;
}

describe('a source that another mover reads', () => {
  it('is stored as if it were read here, whatever the names, kinds and sizes', async () => {
    makeNastyTree(`${base}/source`);
    const afar = await take('t1', null);
    expect(afar.said).toEqual([]);
    const here = await take('h1', null, { seriesId: 's2', from: folderTree(`${base}/source`) });
    expect(await listed(afar.top)).toEqual(await listed(here.top));
    expect(afar.root.totals).toMatchObject({ items: here.root.totals.items, bytes: here.root.totals.bytes, read: here.root.totals.read });
    expect(afar.root.owners).toEqual(here.root.owners);
  });

  it('is not sent again where nothing changed, and keeps its folders', async () => {
    makeNastyTree(`${base}/source`);
    const first = await take('t1', null);
    const second = await take('t2', 't1');
    expect(second.root.totals).toMatchObject({ read: 0, fresh: 0, items: first.root.totals.items });
    expect(second.top.folder!.node.equals(first.top.folder!.node)).toBe(true);
    fs.writeFileSync(`${base}/source/added`, 'one more');
    const third = await take('t3', 't2');
    expect(third.root.totals.read).toBe(8);
    expect(third.root.totals.items).toBe(first.root.totals.items + 1);
    expect((await listed(third.top)).length).toBe((await listed(first.top)).length + 1);
  });

  it('is looked at without anything being moved', async () => {
    fs.writeFileSync(`${base}/source/a`, 'twelve bytes');
    const [near, far] = duplexPair();
    reads(far);
    const said: string[] = [];
    const found = await surveyThrough(near, {
      taskId: 'x',
      now: () => 0,
      include: [],
      exclude: [],
      free: 5,
      warn: () => undefined,
      say: (level, { message }) => said.push(`${level}: ${message}`),
      stopped: () => false,
    });
    expect(found).toMatchObject({ files: 1, bytes: 12, warnings: 0 });
    expect(said.join('\n')).not.toContain('fault');
  });

  it('fails with what the other mover failed with, and when that goes away', async () => {
    const missing = (stream: Duplex) => {
      const capture = () => Promise.reject(Object.assign(new Error('ENOENT: not there'), { code: 'ENOENT' }));
      void readThrough(stream, { capture, survey: capture, limits: HostLimits.none, stopped: () => false });
    };
    await expect(take('t1', null, {}, missing)).rejects.toMatchObject({ code: 'ENOENT' });
    const leaves = (stream: Duplex) => stream.end();
    await expect(take('t2', null, {}, leaves)).rejects.toMatchObject({ code: 'READER_LOST' });
    expect(await store.listPoints()).toEqual([]);
  });
});

/** A mover at the source that somebody else has a hand in: says what it likes. */
function tells(...talk: ((link: FrameLink, nonce: Buffer, answers: AsyncIterator<Buffer>) => Promise<void> | void)[]) {
  return (stream: Duplex): void => {
    const link = new FrameLink(stream);
    const frames = link.frames();
    const bodies = (async function* () {
      for await (const { body } of frames) yield body;
    })();
    void (async () => {
      const brief = JSON.parse((await bodies.next()).value!.toString()) as { nonce: string };
      for (const say of talk) await say(link, Buffer.from(brief.nonce, 'hex'), bodies);
    })().catch(() => undefined);
  };
}

const begins = (link: FrameLink) => {
  link.tell(fromReader.begin, 0, { expected: 10, fresh: false });
};

const plain = { kind: 'file', mode: 0o600, uid: 0, gid: 0, mtimeNs: 0n, ctimeNs: 0n, inode: 0, size: 1 } as const;

function leaf(...entries: TreeEntry[]): Buffer {
  const w = new ByteWriter();
  w.u8(0);
  w.varint(entries.length);
  for (const e of entries) w.bytes(packEntry(e).data);
  return w.take();
}

const standIn = (nonce: Buffer, number: number) => {
  const name = Buffer.alloc(32);
  nonce.copy(name);
  name.writeBigUInt64BE(BigInt(number), 16);
  return name;
};

const ends = (top: TreeEntry) => (link: FrameLink) => {
  const w = new ByteWriter();
  writeEntry(w, top);
  const totals = { items: 1, files: 1, bytes: 1, read: 1 };
  const content = { kind: 'files', version: 1, facts: {}, state: {} };
  const rest = { owners: {}, groups: {}, leftOut: { include: [], exclude: [], byItself: [] }, warnings: 0, content };
  link.tell(fromReader.done, 0, { top: w.take().toString('base64'), totals, ...rest });
};

describe('a mover at the source that is not to be trusted', () => {
  const broken = (talk: Parameters<typeof tells>, previous: string | null = null) =>
    expect(take('evil', previous, {}, tells(begins, ...talk))).rejects.toMatchObject({ code: 'LINK_BROKEN' });

  it('is given folders of the point before, and never what files hold, nor anything of others', async () => {
    fs.writeFileSync(`${base}/source/secret`, 'what somebody deleted since');
    const first = await take('t1', null);
    const other = await take('o1', null, { seriesId: 'others', from: folderTree(`${base}/source`) });
    const node = topEntry(first.root).folder!.node;
    const entry = (await store.trees.folder(node)).find((e) => e.name === 'secret')!;
    const content = (entry.content as { names: Buffer }).names;
    const seen: Buffer[] = [];
    const asks = (name: Buffer) => async (link: FrameLink, _nonce: Buffer, answers: AsyncIterator<Buffer>) => {
      link.send(fromReader.read, 1, name);
      const { value } = (await answers.next()) as { value: Buffer | undefined };
      if (value) seen.push(value);
    };
    await broken([asks(node), asks(content)], 't1');
    expect(seen).toHaveLength(1);
    expect(seen[0]!.includes('what somebody deleted')).toBe(false);
    await broken([asks(randomBytes(32))], 't1');
    await broken([asks(other.top.folder!.node)], null);
  });

  it('can not name what it did not store, nor say that folders hold what they do not', async () => {
    const file: TreeEntry = { ...plain, name: 'a' };
    const folder = (node: Buffer, items: number, bytes: number): TreeEntry => ({
      ...plain,
      kind: 'folder',
      name: '',
      size: 0,
      folder: { node, items, bytes },
    });
    const puts =
      (...nodes: ((nonce: Buffer) => Buffer)[]) =>
      (link: FrameLink, nonce: Buffer) => {
        for (const node of nodes) link.send(fromReader.put, 0, node(nonce));
      };
    const over = (make: (nonce: Buffer) => TreeEntry) => (link: FrameLink, nonce: Buffer) => {
      ends(make(nonce))(link);
    };
    await broken([puts(() => leaf({ ...file, content: { names: randomBytes(32), lengths: [1] } }))]);
    await broken([puts(() => leaf({ ...file, content: { lists: randomBytes(32), count: 300 } }))]);
    await broken([puts(() => leaf(folder(randomBytes(32), 1, 1)))]);
    await broken([puts((nonce) => leaf({ ...folder(standIn(nonce, 7), 1, 1), name: 'b' }))]);
    await broken([puts(() => leaf({ ...file, name: 'b' }, file))]);
    for (const name of ['', '.', '..', 'a/b', 'a\0']) await broken([puts(() => leaf({ ...file, name }))]);
    await broken([puts(() => Buffer.concat([leaf(file), Buffer.alloc(3)]))]);
    await broken([puts(() => leaf(file).subarray(0, 9))]);
    // folders in folders, each said to hold more than there is
    await broken([puts(() => leaf(file)), over((nonce) => folder(standIn(nonce, 0), 1_000_000, 1))]);
    const twice = (nonce: Buffer) => leaf(...['b', 'c'].map((name) => ({ ...folder(standIn(nonce, 0), 1, 1), name })));
    const manyTimes = (number: number, items: number) => (nonce: Buffer) =>
      leaf(...['b', 'c'].map((name) => ({ ...folder(standIn(nonce, number), items, items / 2 + 1), name })));
    await broken([puts(() => leaf(file), twice, manyTimes(1, 4)), over((nonce) => folder(standIn(nonce, 2), 10, 4))]);
    await broken([puts(() => leaf(file)), over(() => file)]);
    expect(await store.listPoints()).toEqual([]);
  });

  it('is not heard where it sends what is no message', async () => {
    await broken([
      (link) => {
        link.send(99, 0);
      },
    ]);
    await broken([
      (link) => {
        link.send(fromReader.done, 0, Buffer.from('{'));
      },
    ]);
    await broken([
      (link) => {
        link.send(fromReader.blocks, 1, Buffer.from([0, 1, 0, 0, 1]));
      },
    ]);
  });

  itLong('is not heard where it tells without end', async () => {
    const chatter = { level: 'note', code: 'TIDE', path: '', message: 'high water', missing: false };
    await broken([
      (link) => {
        for (let i = 0; i <= 200_000; i++) link.tell(fromReader.said, 0, chatter);
      },
    ]);
  });

  it('is not heard where what it sends is too long or has no name', async () => {
    const tooLong = (stream: Duplex) => {
      const head = Buffer.alloc(9);
      head.writeUInt32LE(0xffff_ffff, 0);
      stream.write(head);
    };
    await expect(take('evil', null, {}, tooLong)).rejects.toMatchObject({ code: 'LINK_BROKEN' });
    await expect(take('evil', null, {}, tells(ends({ ...plain, name: '' })))).rejects.toMatchObject({ code: 'LINK_BROKEN' });
  });
});
