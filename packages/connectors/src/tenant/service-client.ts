import { setTimeout as pause } from 'node:timers/promises';
import { EngineError } from '@lithodex/engine';
import { AddressRefused, OutgoingClient, type OutgoingRequest } from '@lithodex/net';
import { SourceError } from '../source-error';
import { tooManyWaits, waitOf } from './retry-after';

const silenceMs = 60_000;

/** A service of a tenant, as it is asked. */
export interface ServiceAccess {
  /** What it is called when it fails. */
  readonly name: string;
  readonly authorization: string;
  /** The authority that its certificate is checked with (PEM); null for those the system trusts. */
  readonly authority: string | null;
  readonly stopped?: (() => boolean) | undefined;
}

export const basic = (account: string, password: string): string => `Basic ${Buffer.from(`${account}:${password}`).toString('base64')}`;
export const bearer = (token: string): string => `Bearer ${token}`;

export interface ServiceRequest {
  readonly headers?: Record<string, string>;
  /** Made anew for each attempt. */
  readonly body?: () => NonNullable<OutgoingRequest['body']>;
}
type Answer = Awaited<ReturnType<OutgoingClient['request']>>;

/** Asks one service over HTTP: within a limit, no address that is refused, and again where it asks for patience. */
export class ServiceClient {
  private readonly client: OutgoingClient;
  /** Told when the service asks for patience, ms. */
  onWait: (ms: number) => void = () => undefined;

  constructor(
    private readonly access: ServiceAccess,
    mostBytes: number,
  ) {
    this.client = new OutgoingClient(mostBytes, silenceMs);
    if (access.authority !== null) this.client.trust(access.authority);
  }

  /** The answer as it begins. Throws SourceError, and what the body failed with. */
  async request(method: string, url: URL, { headers, body }: ServiceRequest = {}): Promise<Answer> {
    const { name, authorization, stopped = () => false } = this.access;
    for (let attempt = 1; ; attempt++) {
      let answer;
      try {
        answer = await this.client.request(url, { method, headers: { authorization, ...headers }, ...(body && { body: body() }) });
      } catch (error) {
        throw this.awayOf(error);
      }
      const wait = waitOf(answer.statusCode, answer.headers, attempt);
      if (wait === undefined) return answer;
      await answer.body.dump();
      if (attempt > tooManyWaits) throw new SourceError('TENANT_AWAY', `${name}: it asks for patience again and again`);
      this.onWait(wait);
      for (let left = wait; left > 0 && !stopped(); left -= 200) await pause(Math.min(200, left));
      if (stopped()) throw new EngineError('STOPPED');
    }
  }

  /** The whole answer as text; `fine`: what else than success is no failure. Throws SourceError. */
  async text(
    method: string,
    url: URL,
    more: ServiceRequest = {},
    fine: readonly number[] = [],
  ): Promise<{ readonly status: number; readonly headers: Answer['headers']; readonly text: string }> {
    const { statusCode: status, headers, body } = await this.request(method, url, more);
    const text = await body.text().catch((error: unknown) => {
      throw this.awayOf(error);
    });
    if (status >= 300 && !fine.includes(status)) throw this.refusal(status);
    return { status, headers, text };
  }

  /** What an answer other than success means. */
  refusal(status: number): SourceError {
    const said = (code: 'TENANT_REFUSED' | 'TENANT_GONE' | 'TENANT_FULL' | 'TENANT_FAILED' | 'TENANT_AWAY') =>
      new SourceError(code, `${this.access.name} answers ${status}`);
    if (status === 401 || status === 403) return said('TENANT_REFUSED');
    if (status === 404 || status === 410) return said('TENANT_GONE');
    if (status === 507 || status === 413) return said('TENANT_FULL');
    return said(status >= 500 || status === 429 ? 'TENANT_AWAY' : 'TENANT_FAILED');
  }

  /** What kept us from an answer, without what a stranger says; what our own side failed with stays as it is. */
  awayOf(error: unknown): Error {
    if (error instanceof SourceError || error instanceof EngineError) return error;
    const code = (error as { code?: unknown }).code;
    const why = error instanceof AddressRefused ? error.message.replace(/\.$/, '') : typeof code === 'string' ? code : 'it does not answer';
    return new SourceError('TENANT_AWAY', `${this.access.name}: ${why}`);
  }

  /** Something that can not be read. */
  unreadable(what = 'its answer'): SourceError {
    return new SourceError('TENANT_FAILED', `${this.access.name}: ${what} can not be read`);
  }

  close(): Promise<void> {
    return this.client.close();
  }
}
