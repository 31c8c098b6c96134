import { once } from 'node:events';
import { setTimeout } from 'node:timers/promises';
import type { Logger } from 'pino';
import { beRebuilt, type UnitHands } from '@lithodex/connectors';
import { moverLanguage, type RebuildQuestion } from '@lithodex/contract';
import { ServerApi, ServerError } from './api';
import { connectByTicket } from './receiver';

export interface UnitOptions {
  readonly server: string;
  readonly token: string;
  readonly name: string;
  readonly hands: UnitHands;
  readonly log: Logger;
}

const tellEveryMs = 10_000;
const patienceMs = 2000;
const endMs = 15_000;
const waitMs = 40_000;
/** Nobody wants this machine any more, or it is of another version. */
const final = ['NOT_SIGNED_IN', 'NOT_ALLOWED', 'MOVER_OUTDATED'];

/** A machine that was started from a recovery medium: it tells what it is, and waits to be made a server. */
export class Unit {
  private readonly api: ServerApi;
  private readonly gone = new AbortController();

  constructor(private readonly options: UnitOptions) {
    this.api = new ServerApi(options.server, options.token);
  }

  stop(): void {
    this.gone.abort();
  }

  /** Ends once its disks are whole: true; or when it is stopped: false. Throws ServerError where the server has no use for it. */
  async run(): Promise<boolean> {
    const telling = this.keep(async () => {
      await this.tell();
      await setTimeout(tellEveryMs, undefined, { signal: this.gone.signal });
      return false;
    });
    try {
      return await Promise.race([telling, this.keep(() => this.asked())]);
    } finally {
      this.gone.abort();
    }
  }

  private async tell(): Promise<void> {
    const { name, hands } = this.options;
    await this.api.call('tellUnit', { unit: name, speaks: moverLanguage, facts: await hands.facts() });
  }

  /** Repeats a round until it says so, whatever the way to the server. */
  private async keep(round: () => Promise<boolean>): Promise<boolean> {
    while (!this.gone.signal.aborted) {
      try {
        if (await round()) return true;
      } catch (error) {
        if (this.gone.signal.aborted) break;
        if (error instanceof ServerError && final.includes(error.code)) throw error;
        this.options.log.warn({ err: error }, 'the server does not answer');
        await setTimeout(patienceMs);
      }
    }
    return false;
  }

  /** Waits for what is asked. True once the disks are whole. */
  private async asked(): Promise<boolean> {
    const signal = AbortSignal.any([this.gone.signal, AbortSignal.timeout(waitMs)]);
    const asked = await this.api.call('questions', { mover: this.options.name, speaks: moverLanguage }, undefined, signal);
    if (!asked.id || asked.question?.ask !== 'rebuild') return false;
    await this.api.call('answer', { ok: true, answer: {} }, asked.id);
    return this.rebuilt(asked.question);
  }

  private async rebuilt({ address, ticket, task }: RebuildQuestion): Promise<boolean> {
    const { log, hands } = this.options;
    log.info({ run: task.runId }, 'this machine is being made anew');
    const stream = await connectByTicket(address, ticket);
    try {
      const whole = await beRebuilt(stream, hands, () => this.tell());
      if (!stream.closed) await once(stream, 'close', { signal: AbortSignal.timeout(endMs) }).catch(() => undefined);
      log.info({ run: task.runId, whole }, whole ? 'the disks are whole' : 'the disks could not be made anew');
      return whole;
    } finally {
      stream.destroy();
    }
  }
}
