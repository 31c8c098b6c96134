import { setTimeout as pause } from 'node:timers/promises';
import { EngineError } from '@lithodex/engine';
import { AddressRefused, OutgoingClient, type OutgoingRequest } from '@lithodex/net';
import { SourceError, type SourceErrorCode } from './source-error';
import { tooManyWaits, waitOf } from './retry-after';

const silenceMs = 60_000;

/** What its refusals are called. */
export interface ServiceCodes {
  /** Who asks is not known. */
  readonly refused: SourceErrorCode;
  readonly forbidden: SourceErrorCode;
  readonly gone: SourceErrorCode;
  readonly full: SourceErrorCode;
  readonly failed: SourceErrorCode;
  readonly away: SourceErrorCode;
}

const tenantCodes: ServiceCodes = {
  refused: 'TENANT_REFUSED',
  forbidden: 'TENANT_REFUSED',
  gone: 'TENANT_GONE',
  full: 'TENANT_FULL',
  failed: 'TENANT_FAILED',
  away: 'TENANT_AWAY',
};

/** A service of a system, as it is asked. */
export interface ServiceAccess {
  /** What it is called when it fails. */
  readonly name: string;
  readonly authorization: string;
  /** The authority that its certificate is checked with (PEM); null for those the system trusts. */
  readonly authority: string | null;
  readonly stopped?: (() => boolean) | undefined;
  /** Those of a tenant, unless others are given. */
  readonly codes?: ServiceCodes;
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
  private readonly codes: ServiceCodes;
  /** Told when the service asks for patience, ms. */
  onWait: (ms: number) => void = () => undefined;

  constructor(
    private readonly access: ServiceAccess,
    mostBytes: number,
  ) {
    this.client = new OutgoingClient(mostBytes, silenceMs);
    this.codes = access.codes ?? tenantCodes;
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
      if (attempt > tooManyWaits) throw new SourceError(this.codes.away, `${name}: it asks for patience again and again`);
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
  refusal(status: number, why = ''): SourceError {
    const { codes } = this;
    const said = (code: SourceErrorCode) => new SourceError(code, `${this.access.name} answers ${status}${why && `: ${why}`}`);
    if (status === 401) return said(codes.refused);
    if (status === 403) return said(codes.forbidden);
    if (status === 404 || status === 410) return said(codes.gone);
    if (status === 507 || status === 413) return said(codes.full);
    return said(status >= 500 || status === 429 ? codes.away : codes.failed);
  }

  /** What kept us from an answer, without what a stranger says; what our own side failed with stays as it is. */
  awayOf(error: unknown): Error {
    if (error instanceof SourceError || error instanceof EngineError) return error;
    const code = (error as { code?: unknown }).code;
    const why = error instanceof AddressRefused ? error.message.replace(/\.$/, '') : typeof code === 'string' ? code : 'it does not answer';
    return new SourceError(this.codes.away, `${this.access.name}: ${why}`);
  }

  /** Something that can not be read. */
  unreadable(what = 'its answer'): SourceError {
    return new SourceError(this.codes.failed, `${this.access.name}: ${what} can not be read`);
  }

  close(): Promise<void> {
    return this.client.close();
  }
}
