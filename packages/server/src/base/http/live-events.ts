import { EventEmitter, once } from 'node:events';
import type { Response } from 'express';
import type { Knex } from 'knex';
import type { LiveEvent } from '@lithodex/contract';
import type { Clock } from '../clock';

const kept = 20_000;
/** Ids are given before rows are there: so far behind the newest one may still appear. */
const mayComeLate = 50;
/** Kinds of change that leave everything stored as it was. */
const aside: readonly LiveEvent['kind'][] = ['progress', 'request', 'matter', 'room'];

/** Who a stream of events is for. */
export interface Watcher {
  /** Whether they may know of it. */
  readonly sees: (event: LiveEvent) => boolean | Promise<boolean>;
  /** Whether they may still look. */
  readonly stillIn: () => Promise<boolean>;
}

/** Live changes: every event is a row, so that a browser that lost its connection gets what it missed. */
export class LiveEvents {
  private readonly bus = new EventEmitter().setMaxListeners(0);
  private readonly open = new Set<Response>();
  private readonly newestOf = new Map<LiveEvent['kind'], number>();

  constructor(
    private readonly db: Knex,
    private readonly clock: Clock,
  ) {}

  async emit(
    kind: LiveEvent['kind'],
    about: { runId?: number | null; workloadId?: number | null; taskId?: string | null } = {},
  ): Promise<void> {
    const event = { kind, runId: about.runId ?? null, workloadId: about.workloadId ?? null, taskId: about.taskId ?? null };
    const [id] = await this.db('event').insert({
      at: this.clock.now(),
      kind,
      run_id: event.runId,
      workload_id: event.workloadId,
      task_id: event.taskId,
    });
    if (id! % 500 === 0)
      await this.db('event')
        .where('id', '<', id! - kept)
        .delete();
    this.bus.emit('event', { id: id!, ...event } satisfies LiveEvent);
  }

  /** Resolves when this server tells of the next change. */
  next(): Promise<unknown> {
    return once(this.bus, 'event');
  }

  /** Id of the newest change of some kinds that any server told of; of those that change what is protected and stored when none is named; 0 for none. */
  async newest(...kinds: readonly LiveEvent['kind'][]): Promise<number> {
    const seen = Math.max(0, ...this.newestOf.values());
    const rows = await this.db('event')
      .where('id', '>', seen - mayComeLate)
      .groupBy('kind')
      .select<{ kind: LiveEvent['kind']; id: number }[]>('kind', this.db.raw('MAX(id) AS id'));
    for (const { kind, id } of rows) this.newestOf.set(kind, Math.max(id, this.newestOf.get(kind) ?? 0));
    const asked = [...this.newestOf].filter(([kind]) => (kinds.length ? kinds.includes(kind) : !aside.includes(kind)));
    return asked.reduce((newest, [, id]) => Math.max(newest, id), 0);
  }

  /** Streams events after `lastId` (what was missed first) to somebody until the browser goes away, as far as they may know of them and while they may look at all. */
  async stream(res: Response, lastId: number | undefined, { sees, stillIn }: Watcher): Promise<void> {
    res.writeHead(200, { 'content-type': 'text/event-stream', 'cache-control': 'no-store', 'x-accel-buffering': 'no' });
    let sent = lastId ?? 0;
    // one after the other, so that the newest number a browser has seen stands for all before it
    let turn = Promise.resolve();
    const send = (event: LiveEvent) => {
      turn = turn.then(async () => {
        if (event.id <= sent || res.destroyed || !(await sees(event))) return;
        sent = event.id;
        res.write(`id: ${event.id}\nevent: change\ndata: ${JSON.stringify(event)}\n\n`);
      });
      turn.catch(() => {
        res.destroy();
      });
    };
    const early: LiveEvent[] = [];
    let listener: (event: LiveEvent) => void = (event) => early.push(event);
    const onEvent = (event: LiveEvent) => {
      listener(event);
    };
    this.bus.on('event', onEvent);
    this.open.add(res);
    const beat = setInterval(() => {
      res.write(': here\n\n');
      stillIn().then(
        (still) => {
          if (!still) res.end();
        },
        () => undefined,
      );
    }, 15_000);
    res.on('close', () => {
      clearInterval(beat);
      this.bus.off('event', onEvent);
      this.open.delete(res);
    });
    res.write('retry: 2000\n\n');
    if (lastId !== undefined) {
      type Row = { id: number; kind: LiveEvent['kind']; run_id: number | null; workload_id: number | null; task_id: string | null };
      const missed = await this.db('event').where('id', '>', lastId).orderBy('id').limit(1000).select<Row[]>();
      for (const row of missed) send({ id: row.id, kind: row.kind, runId: row.run_id, workloadId: row.workload_id, taskId: row.task_id });
    }
    for (const event of early) send(event);
    listener = send;
  }

  close(): void {
    for (const res of this.open) res.end();
  }
}
