import { randomBytes } from 'node:crypto';
import type { Duplex } from 'node:stream';
import { EngineError, topEntry, type Root, type Store } from '@lithodex/engine';
import type { CaptureContext, PointContent, Surveyed, SurveyContext } from '../connector';
import type { PointWriting } from '../capture-store';
import { OpenStore } from '../open-store';
import { SourceError } from '../source-error';
import { FrameLink, type Frame } from './frames';
import {
  Alive,
  Begin,
  CapturedSent,
  encodeSegment,
  fromKeeper,
  fromReader,
  nonceBytes,
  parsed,
  ProgressSent,
  receivedError,
  SaidSent,
  SurveyedSent,
  type Brief,
} from './messages';
import { NodeGate } from './node-gate';

const lookEveryMs = 300;
/** More lines than a log is read for: who sends them wants to fill it. */
const mostSaid = 200_000;

/** Everything that a capture by another mover needs but the store. */
export type AfarContext = Omit<CaptureContext, 'store' | 'limits'>;

/** Lets the mover at the other end of a connection capture a source into a store that is open here. Throws what that mover failed with; LINK_BROKEN, READER_LOST, STOPPED. */
export function captureThrough(stream: Duplex, store: Store, ctx: AfarContext): Promise<PointContent> {
  return new KeepingSide(stream, ctx).capture(store);
}

/** Lets the mover at the other end look at what a capture would read. Throws as {@link captureThrough}. */
export async function surveyThrough(
  stream: Duplex,
  ctx: Omit<SurveyContext, 'limits'> & Pick<CaptureContext, 'taskId' | 'now'>,
): Promise<Surveyed> {
  const said = (level: 'note' | 'warning') => (s: Parameters<SurveyContext['say']>[1]) => {
    ctx.say(level, s);
  };
  const nothing = { kind: 'full', base: undefined, reread: undefined, parts: [], logStart: null, logged: false, fresh: false } as const;
  const none = { alive: () => Promise.resolve([]), progress: () => undefined };
  return new KeepingSide(stream, { ...ctx, ...nothing, ...none, note: said('note') }, said('warning')).survey(ctx.free);
}

class KeepingSide {
  private readonly link: FrameLink;
  private readonly nonce = randomBytes(nonceBytes);
  private broken: unknown;
  private lines = 0;
  /** What threads fail with from then on says nothing. */
  private over = false;

  constructor(
    private readonly stream: Duplex,
    private readonly ctx: AfarContext,
    private readonly warning: (said: { code: string; path: string; message: string }) => void = () => undefined,
  ) {
    this.link = new FrameLink(stream);
  }

  capture(store: Store): Promise<PointContent> {
    const open = new OpenStore(store);
    return this.during(async () => {
      this.brief('capture', open.zeros, null);
      const frames = this.link.frames();
      const first = await frames.next();
      if (first.done) throw new SourceError('READER_LOST');
      if (first.value.type === fromReader.failed) throw receivedError(first.value.body);
      if (first.value.type !== fromReader.begin) throw new SourceError('LINK_BROKEN', 'a capture has to begin first');
      const { expected, fresh } = parsed(Begin, first.value.body);
      const writing = open.begin(expected, fresh || this.ctx.fresh);
      return writing.during(() =>
        this.take(frames, store, writing).finally(() => {
          this.over = true;
        }),
      );
    });
  }

  survey(free: number | null): Promise<Surveyed> {
    return this.during(async () => {
      this.brief('survey', Buffer.alloc(32), free);
      for await (const frame of this.link.frames()) {
        if (frame.type === fromReader.said) this.said(frame);
        else if (frame.type === fromReader.done) return parsed(SurveyedSent, frame.body);
        else if (frame.type === fromReader.failed) throw receivedError(frame.body);
        else throw new SourceError('LINK_BROKEN', 'a survey moves nothing');
      }
      throw new SourceError('READER_LOST');
    });
  }

  private brief(what: Brief['do'], zeros: Buffer, free: number | null): void {
    const { taskId, kind, logStart, logged, fresh, include, exclude, parts, base = null, reread = null } = this.ctx;
    const rest = { taskId, kind, logStart, logged, fresh, include: [...include], exclude: [...exclude], parts: [...parts] };
    const brief: Brief = {
      do: what,
      nonce: this.nonce.toString('hex'),
      zeros: zeros.toString('hex'),
      now: this.ctx.now(),
      free,
      base: base && { ...base },
      reread: reread && { ...reread },
      ...rest,
    };
    this.link.tell(fromKeeper.brief, 0, brief);
  }

  /** Breaks the connection off when the work is stopped, and always in the end. */
  private async during<T>(work: () => Promise<T>): Promise<T> {
    const look = setInterval(() => {
      if (!this.ctx.stopped()) return;
      this.broken ??= new EngineError('STOPPED');
      this.link.destroy();
    }, lookEveryMs);
    try {
      return await work();
    } catch (error) {
      if (this.broken) throw this.broken as Error;
      throw isOfConnection(error) ? new SourceError('READER_LOST') : error;
    } finally {
      clearInterval(look);
      this.link.destroy();
    }
  }

  private fail(error: unknown): void {
    if (this.over) return;
    this.broken ??= error;
    this.link.destroy();
  }

  private async take(frames: AsyncIterable<Frame>, store: Store, writing: PointWriting): Promise<PointContent> {
    const gate = new NodeGate(this.nonce, writing.put);
    for (const root of [this.ctx.base, this.ctx.reread] as (Root | undefined)[]) if (root) gate.allow(root, topEntry(root));
    for await (const { type, id, body } of frames) {
      if (type === fromReader.segment) {
        const { done } = await writing.pool.segment(new Uint8Array(body.buffer));
        done.then(
          (cut) => {
            gate.stored(cut.names);
            this.link.send(fromKeeper.answer, id, encodeSegment(cut));
          },
          (error: unknown) => {
            this.fail(error);
          },
        );
      } else if (type === fromReader.blocks) {
        const job = { block: blockOf(body), data: new Uint8Array(body.subarray(4)) };
        const stored = await writing.pool.blocks(job);
        gate.stored(stored.names);
        const random = Buffer.alloc(4);
        random.writeUInt32LE(stored.random);
        this.link.send(fromKeeper.answer, id, random, stored.names);
      } else if (type === fromReader.put) gate.take(body);
      else if (type === fromReader.read) {
        if (!gate.mayRead(body)) throw new SourceError('LINK_BROKEN', 'something else than the folders of the point before was asked for');
        const node = await store.reader.read(body);
        gate.served(node);
        this.link.send(fromKeeper.answer, id, node);
      } else if (type === fromReader.alive) {
        const alive = await this.ctx.alive(parsed(Alive, body).tasks);
        this.link.tell(fromKeeper.answer, id, { tasks: alive });
      } else if (type === fromReader.progress) this.ctx.progress(parsed(ProgressSent, body), writing.packed);
      else if (type === fromReader.said) this.said({ body });
      else if (type === fromReader.failed) throw receivedError(body);
      else if (type === fromReader.done) return await this.content(parsed(CapturedSent, body), gate, writing);
      else throw new SourceError('LINK_BROKEN', `a message of type ${type}`);
      await writing.drain();
      await this.link.drained();
    }
    throw new SourceError('READER_LOST');
  }

  private said({ body }: Pick<Frame, 'body'>): void {
    if (++this.lines > mostSaid) throw new SourceError('LINK_BROKEN', 'it says too much');
    const { level, missing, ...said } = parsed(SaidSent, body);
    if (level === 'warned') this.ctx.warn({ ...said, missing });
    else if (level === 'note') this.ctx.note(said);
    else this.warning(said);
  }

  private async content(
    { top: packed, totals, content, ...rest }: ReturnType<typeof CapturedSent.parse>,
    gate: NodeGate,
    writing: PointWriting,
  ): Promise<PointContent> {
    const top = gate.top(Buffer.from(packed, 'base64'));
    const counts = await writing.finish();
    const { changes, facts = {}, state = {}, ...kind } = content;
    return { ...rest, top, totals: { ...totals, ...counts }, content: { ...kind, facts, state, ...(changes && { changes }) } };
  }
}

/** Bytes of a block of an image that was sent: a power of two up to 4 MiB. */
function blockOf(body: Buffer): number {
  const block = body.length >= 4 ? body.readUInt32LE(0) : 0;
  if (block < 512 || block > 4 << 20 || (block & (block - 1)) !== 0) throw new SourceError('LINK_BROKEN', 'blocks of an odd size');
  return block;
}

/** What a connection fails with that the other side has left. */
function isOfConnection(error: unknown): boolean {
  const { code = '' } = error as { code?: unknown };
  return error instanceof Error && !(error instanceof SourceError) && !(error instanceof EngineError) && ofConnection.has(String(code));
}

const ofConnection = new Set(['ECONNRESET', 'EPIPE', 'ERR_STREAM_PREMATURE_CLOSE', 'ERR_STREAM_DESTROYED', 'ETIMEDOUT', 'ABORT_ERR']);
