import { MessageChannel, receiveMessageOnPort, Worker, type MessagePort } from 'node:worker_threads';
import { endThread, threadFile, type FileFacts } from '@lithodex/engine';
import { listAhead } from './list-ahead';
import type { LiveTree } from './live-tree';
import { getFacts, scoutPlaces, scoutStates, stateOf, type ScoutReply, type ScoutRequest, type ScoutStart } from './scout-message';

/** Folders that are asked for ahead. */
const ahead = 24;
/** A thread that broke would be waited for without end. */
const patienceMs = 60_000;

/** A thread that lists folders ahead of walks. It is kept from one to the next; one at a time has it. */
export class ScoutThread {
  private readonly memory = new SharedArrayBuffer(4 * scoutPlaces);
  private readonly states = new Int32Array(this.memory);
  private running: { readonly worker: Worker; readonly port: MessagePort } | undefined;
  private lent = false;
  private lastId = 0;

  /** Lends it to a walk; undefined while another has it. */
  lend(): Lent | undefined {
    if (this.lent) return undefined;
    const { port } = (this.running ??= this.start());
    this.lent = true;
    return {
      port,
      states: this.states,
      // numbers go round before they do not fit any more
      nextId: () => (this.lastId = (this.lastId + 1) % 2 ** 28),
      giveBack: () => (this.lent = false),
    };
  }

  private start(): { readonly worker: Worker; readonly port: MessagePort } {
    const { port1, port2 } = new MessageChannel();
    const start: ScoutStart = { states: this.memory, port: port2 };
    const worker = new Worker(threadFile('scout-thread'), { workerData: start, transferList: [port2] });
    worker.on('error', () => {
      this.running = undefined;
    });
    return { worker, port: port1 };
  }

  async close(): Promise<void> {
    const { running } = this;
    this.running = undefined;
    running?.port.close();
    if (running) await endThread(running.worker);
  }
}

/** A thread that a walk has for itself. */
interface Lent {
  readonly port: MessagePort;
  readonly states: Int32Array;
  readonly nextId: () => number;
  readonly giveBack: () => void;
}

/** A folder that was listed ahead. */
export class Scouted {
  readonly names: readonly string[];
  private readonly failures: ReadonlyMap<number, Error>;

  constructor(
    names: Uint8Array,
    private readonly all: Float64Array,
    failed: ScoutReply['failed'],
  ) {
    const text = Buffer.from(names.buffer, names.byteOffset, names.length).toString('latin1');
    this.names = text === '' ? [] : text.split('/');
    this.failures = new Map(failed.map(([place, code]) => [place, Object.assign(new Error(code), { code })]));
  }

  /** What is known of the name at a place, or what asking for it failed with. */
  at(place: number, facts: FileFacts): Error | undefined {
    getFacts(this.all, place, facts);
    return this.failures.get(place);
  }
}

interface Level {
  readonly paths: readonly string[];
  asked: number;
  /** How many were entered. */
  at: number;
}

/** Lists the folders that a walk will enter next in another thread, while the walk looks at those before. What is not ready when it is wanted the walk lists itself. */
export class Scout {
  /** Folders that are entered one after another, the innermost last. */
  private readonly levels: Level[] = [];
  private readonly open = new Map<string, number>();
  private readonly found = new Map<number, ScoutReply>();

  private lent: Lent | undefined;

  constructor(
    private readonly tree: LiveTree,
    private readonly thread: ScoutThread,
  ) {}

  /** These folders, in this order, are entered next. */
  foresee(paths: readonly string[]): void {
    this.levels.push({ paths, asked: 0, at: 0 });
    this.ask();
  }

  /** The folders of the last {@link foresee} have been passed. */
  passed(): void {
    for (const path of this.levels.pop()!.paths) if (this.open.has(path)) this.take(path);
  }

  /** Begins to list ahead. */
  begin(): void {
    if (this.lent) return;
    this.lent = this.thread.lend();
    this.ask();
  }

  private ask(): void {
    const { lent } = this;
    if (!lent) return;
    for (let l = this.levels.length - 1; l >= 0; l--)
      for (const level = this.levels[l]!; Math.max(level.asked, level.at) < level.paths.length;) {
        if (this.open.size >= ahead) return;
        level.asked = Math.max(level.asked, level.at);
        const id = lent.nextId();
        const path = level.paths[level.asked++]!;
        Atomics.store(lent.states, id % scoutPlaces, stateOf(id, scoutStates.waiting));
        this.open.set(path, id);
        lent.port.postMessage(this.request(id, path));
      }
  }

  /** A folder as it was found ahead; undefined where it was not. */
  take(path: string): Scouted | undefined {
    const level = this.levels.at(-1);
    if (level) level.at++;
    const id = this.open.get(path);
    const { lent } = this;
    if (id === undefined || !lent) return undefined;
    this.open.delete(path);
    const left = !this.found.has(id) && this.isTaken(lent, id);
    if (!left && !this.found.has(id)) this.wait(lent, id);
    this.ask();
    const reply = this.found.get(id);
    this.found.delete(id);
    return reply?.names ? new Scouted(reply.names, reply.facts, reply.failed) : undefined;
  }

  /** Takes a request back that the thread has not begun with. */
  private isTaken({ states }: Lent, id: number): boolean {
    const waiting = stateOf(id, scoutStates.waiting);
    return Atomics.compareExchange(states, id % scoutPlaces, waiting, stateOf(id, scoutStates.walk)) === waiting;
  }

  /** While the thread is at it, the folders behind are listed here. */
  private wait(lent: Lent, id: number): void {
    const { states, port } = lent;
    const [place, scout] = [id % scoutPlaces, stateOf(id, scoutStates.scout)];
    for (const [path, other] of this.open) {
      if (Atomics.load(states, place) !== scout) break;
      if (!this.found.has(other) && this.isTaken(lent, other)) this.found.set(other, listAhead(this.request(other, path)));
    }
    Atomics.wait(states, place, scout, patienceMs);
    for (let next = receiveMessageOnPort(port); next; next = receiveMessageOnPort(port)) {
      const reply = next.message as ScoutReply;
      this.found.set(reply.id, reply);
    }
  }

  private request(id: number, path: string): ScoutRequest {
    return { id, top: this.tree.top, path, account: this.tree.account };
  }

  /** The walk has ended: nothing looks at the tree any more afterwards. */
  end(): void {
    this.levels.length = 0;
    for (const path of [...this.open.keys()]) this.take(path);
    this.found.clear();
    this.lent?.giveBack();
  }
}
