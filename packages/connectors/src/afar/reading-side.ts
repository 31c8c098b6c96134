import { performance } from 'node:perf_hooks';
import type { Duplex } from 'node:stream';
import { encodeTop, TreeReader, type Root } from '@lithodex/engine';
import type { CaptureStore, PointWriting } from '../capture-store';
import type { CaptureContext, PointContent, Said, Surveyed, SurveyContext } from '../connector';
import type { HostLimits } from '../files/host-limits';
import { Alive, fromReader, parsed, sentError, type Brief } from './messages';
import { ReadingLink } from './reading-link';
import { SentPool } from './sent-pool';

const progressEveryMs = 200;
const noCounts = { fresh: 0, stored: 0 };

/** What a mover that reads only does at one end of a connection. */
export interface Reading {
  readonly capture: (ctx: CaptureContext) => Promise<PointContent>;
  readonly survey: (ctx: SurveyContext) => Promise<Surveyed>;
  readonly limits: HostLimits;
  readonly stopped: () => boolean;
}

/** Captures a source for the mover at the other end, which keeps what is read; this side has no key and sees no point but the folders of the one before. What fails is told there. */
export async function readThrough(stream: Duplex, reading: Reading): Promise<void> {
  const link = new ReadingLink(stream);
  const brief = await link.brief();
  const stopped = () => link.lost || reading.stopped();
  const say = (level: 'note' | 'warning' | 'warned', { code, path, message }: Said, missing = false) => {
    link.tell(fromReader.said, { level, code, path, message: message.slice(0, 2000), missing });
  };
  const { include, exclude, free } = brief;
  const common = {
    include,
    exclude,
    limits: reading.limits,
    stopped,
    warn: (w: Said & { missing: boolean }) => {
      say('warned', w, w.missing);
    },
  };
  try {
    const done =
      brief.do === 'survey'
        ? await reading.survey({ ...common, free, say })
        : sentContent(
            await reading.capture({
              ...common,
              ...contextOf(link, brief, stopped),
              note: (said) => {
                say('note', said);
              },
            }),
          );
    link.tell(fromReader.done, done);
  } catch (error) {
    link.tell(fromReader.failed, sentError(error));
  }
  link.end();
}

function contextOf(
  link: ReadingLink,
  brief: Brief,
  stopped: () => boolean,
): Omit<CaptureContext, 'include' | 'exclude' | 'limits' | 'warn' | 'note' | 'stopped'> {
  const { taskId, kind, logStart, logged, fresh, base, reread, now, parts } = brief;
  const began = performance.now();
  let told = 0;
  return {
    store: storeThrough(link, Buffer.from(brief.zeros, 'hex'), stopped),
    taskId,
    kind,
    logStart,
    logged,
    fresh,
    parts,
    base: (base ?? undefined) as Root | undefined,
    reread: (reread ?? undefined) as Root | undefined,
    alive: async (tasks) => parsed(Alive, await link.ask(fromReader.alive, Buffer.from(JSON.stringify({ tasks })))).tasks,
    now: () => now + Math.round(performance.now() - began),
    progress: (progress) => {
      if (performance.now() - told < progressEveryMs) return;
      told = performance.now();
      link.tell(fromReader.progress, progress);
    },
  };
}

/** The store of the other side, as far as a capture has to do with it. */
function storeThrough(link: ReadingLink, zeros: Buffer, stopped: () => boolean): CaptureStore {
  return {
    trees: new TreeReader({ read: (name) => link.ask(fromReader.read, name) }),
    zeros,
    begin: (expected, fresh) => {
      link.tell(fromReader.begin, { expected, fresh });
      const pool = new SentPool(link, stopped);
      return {
        pool,
        packed: noCounts,
        put: link.put,
        drain: () => link.drained(),
        finish: async () => {
          await pool.idle();
          return noCounts;
        },
        during: (work) => work(),
      } satisfies PointWriting;
    },
  };
}

function sentContent({ top, ...content }: PointContent): object {
  return { top: encodeTop(top), ...content };
}
