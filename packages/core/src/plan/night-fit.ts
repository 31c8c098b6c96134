/** A task of the hours ahead. Times in ms. */
export interface PlannedTask {
  /** Tells tasks apart, and decides between those that are otherwise alike. */
  readonly key: string;
  readonly policyId: number;
  /** Comes due at this time, or, where it follows others, not before all of them have ended. */
  readonly due: number;
  /** Keys of the tasks it follows. */
  readonly follows?: readonly string[];
  /** How long it takes once it runs. */
  readonly lasts: number;
  /** Lower goes first. */
  readonly priority: number;
  readonly targetId: string;
  readonly sourceId: number;
  /** Tasks of one series do not run beside each other. */
  readonly series: string;
  /** From when on it may not start any more, and whether it is then cut off. */
  readonly window?: { readonly ends: number; readonly stop: boolean };
}

/** How many tasks can run beside each other. `slots`: as many as all movers together run at once. */
export interface Room {
  readonly slots: number;
  readonly inAll: number;
  readonly perTarget: ReadonlyMap<string, number>;
  readonly perSource: ReadonlyMap<number, number>;
}

export interface FittedTask {
  readonly task: PlannedTask;
  /** When it comes due; null: never, as something it follows does not take place. */
  readonly due: number | null;
  /** null: it does not start, as its window ends before it can, or it never comes due. */
  readonly start: number | null;
  readonly end: number | null;
  readonly cutOff: boolean;
}

const inTurn = (a: PlannedTask, b: PlannedTask) => a.priority - b.priority || a.due - b.due || (a.key < b.key ? -1 : 1);

/** Counts what runs, in all, by target, source and series. */
class AtWork {
  private readonly targets = new Map<string, number>();
  private readonly sources = new Map<number, number>();
  private readonly series = new Set<string>();
  private count = 0;

  constructor(private readonly room: Room) {}

  get full(): boolean {
    return this.count >= Math.min(this.room.slots, this.room.inAll);
  }

  takes({ targetId, sourceId, series }: PlannedTask): boolean {
    const { perTarget, perSource } = this.room;
    return (
      !this.series.has(series) &&
      (this.targets.get(targetId) ?? 0) < (perTarget.get(targetId) ?? Infinity) &&
      (this.sources.get(sourceId) ?? 0) < (perSource.get(sourceId) ?? Infinity)
    );
  }

  change({ targetId, sourceId, series }: PlannedTask, by: 1 | -1): void {
    this.count += by;
    this.targets.set(targetId, (this.targets.get(targetId) ?? 0) + by);
    this.sources.set(sourceId, (this.sources.get(sourceId) ?? 0) + by);
    if (by > 0) this.series.add(series);
    else this.series.delete(series);
  }
}

/** Tasks that come due, in the order in which they do, as what they follow ends. */
class Coming {
  private readonly list: { readonly task: PlannedTask; readonly due: number }[] = [];
  private readonly followers = new Map<string, PlannedTask[]>();
  private readonly open = new Map<PlannedTask, { left: number; due: number }>();
  readonly due = new Map<PlannedTask, number>();

  constructor(tasks: readonly PlannedTask[]) {
    const known = new Set(tasks.map((t) => t.key));
    for (const task of tasks) {
      const follows = task.follows?.filter((key) => known.has(key)) ?? [];
      if (!follows.length) this.add(task, task.due);
      else this.open.set(task, { left: follows.length, due: task.due });
      for (const key of follows) this.followers.set(key, [...(this.followers.get(key) ?? []), task]);
    }
  }

  private add(task: PlannedTask, due: number): void {
    this.due.set(task, due);
    insert(this.list, { task, due }, (a, b) => a.due - b.due || inTurn(a.task, b.task));
  }

  get next(): number {
    return this.list[0]?.due ?? Infinity;
  }

  take(): PlannedTask {
    return this.list.shift()!.task;
  }

  /** A task will have ended then. */
  ended({ key }: PlannedTask, at: number): void {
    for (const task of this.followers.get(key) ?? []) {
      const open = this.open.get(task)!;
      open.due = Math.max(open.due, at);
      if (--open.left === 0) this.add(task, open.due);
    }
  }
}

/**
 * Runs the queue ahead as the server runs it: whenever something comes due or ends, the first waiting task that finds room starts. Answers in the order of the tasks. Without room
 * for anything (no mover), nothing starts.
 */
export function fitTasks(tasks: readonly PlannedTask[], room: Room): FittedTask[] {
  const fitted = new Map<PlannedTask, FittedTask>();
  const coming = new Coming(tasks);
  const running: { readonly task: PlannedTask; readonly end: number }[] = [];
  const waiting: PlannedTask[] = [];
  const work = new AtWork(room);
  while (Number.isFinite(coming.next) || (running.length && waiting.length)) {
    const now = Math.min(coming.next, running[0]?.end ?? Infinity);
    while (coming.next <= now) insert(waiting, coming.take(), inTurn);
    while (running[0] && running[0].end <= now) work.change(running.shift()!.task, -1);
    for (let at = 0; at < waiting.length && !work.full;) {
      const task = waiting[at]!;
      const passed = task.window && task.window.ends <= now;
      if (!passed && !work.takes(task)) {
        at++;
        continue;
      }
      waiting.splice(at, 1);
      if (passed) continue;
      const last = task.window?.stop ? task.window.ends : Infinity;
      const end = Math.min(now + task.lasts, last);
      fitted.set(task, { task, due: coming.due.get(task)!, start: now, end, cutOff: now + task.lasts > last });
      work.change(task, 1);
      insert(running, { task, end }, (a, b) => a.end - b.end);
      coming.ended(task, end);
    }
  }
  return tasks.map((task) => fitted.get(task) ?? { task, due: coming.due.get(task) ?? null, start: null, end: null, cutOff: false });
}

function insert<T>(list: T[], item: T, order: (a: T, b: T) => number): void {
  let [low, high] = [0, list.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if (order(list[middle]!, item) <= 0) low = middle + 1;
    else high = middle;
  }
  list.splice(low, 0, item);
}

/** How a row of hours comes out. */
export interface NightOutcome {
  /** When the last of it ends (ms); null when nothing runs. */
  readonly ends: number | null;
  /** Tasks that do not start in their window, or are cut off by it. */
  readonly missed: number;
}

export function outcomeOf(fitted: readonly FittedTask[]): NightOutcome {
  let ends: number | null = null;
  for (const { end } of fitted) if (end !== null && (ends === null || end > ends)) ends = end;
  return { ends, missed: fitted.filter((f) => (f.start === null && f.due !== null) || f.cutOff).length };
}

/** A change that might help. `earlier` moves a policy an hour ahead. */
export type NightChange =
  | { readonly kind: 'slot' | 'inAll' }
  | { readonly kind: 'target'; readonly targetId: string }
  | { readonly kind: 'source'; readonly sourceId: number }
  | { readonly kind: 'earlier'; readonly policyId: number };

const hour = 3_600_000;
const worthwhile = 10 * 60_000;

/** Policies with tasks that are missed, or that had to wait and end in the last hour, at most five. */
function lastOnes(fitted: readonly FittedTask[], ends: number): number[] {
  const late = fitted.filter((f) => (f.end === null && f.due !== null) || f.cutOff || ((f.end ?? 0) > ends - hour && f.start !== f.due));
  return [...new Set(late.map((f) => f.task.policyId))].slice(0, 5);
}

/** The changes after which less is missed, or all ends at least ten minutes sooner; best first. */
export function whatHelps(tasks: readonly PlannedTask[], room: Room): (NightOutcome & { readonly change: NightChange })[] {
  const fitted = fitTasks(tasks, room);
  const before = outcomeOf(fitted);
  const more = <K>(limits: ReadonlyMap<K, number>, key: K) => new Map(limits).set(key, limits.get(key)! + 1);
  const candidates: [NightChange, readonly PlannedTask[], Room][] = [[{ kind: 'slot' }, tasks, { ...room, slots: room.slots + 1 }]];
  if (Number.isFinite(room.inAll)) candidates.push([{ kind: 'inAll' }, tasks, { ...room, inAll: room.inAll + 1 }]);
  for (const targetId of room.perTarget.keys())
    candidates.push([{ kind: 'target', targetId }, tasks, { ...room, perTarget: more(room.perTarget, targetId) }]);
  for (const sourceId of room.perSource.keys())
    candidates.push([{ kind: 'source', sourceId }, tasks, { ...room, perSource: more(room.perSource, sourceId) }]);
  for (const policyId of lastOnes(fitted, before.ends ?? 0))
    candidates.push([{ kind: 'earlier', policyId }, tasks.map((t) => (t.policyId === policyId ? { ...t, due: t.due - hour } : t)), room]);
  return candidates
    .map(([change, changed, there]) => ({ change, ...outcomeOf(fitTasks(changed, there)) }))
    .filter(({ ends, missed }) => missed < before.missed || (missed === before.missed && (before.ends ?? 0) - (ends ?? 0) >= worthwhile))
    .sort((a, b) => a.missed - b.missed || (a.ends ?? 0) - (b.ends ?? 0));
}
