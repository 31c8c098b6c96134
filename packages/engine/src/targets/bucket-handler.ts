import http from 'node:http';
import https from 'node:https';
import type { Readable } from 'node:stream';
import { NodeHttpHandler } from '@smithy/node-http-handler';
import { atMost, checkHost, guardedLookup } from '@lithodex/net';

/** More than anything of a store takes: what is read of a bucket at once. */
const mostBytes = 256 << 20;
const connectMs = 5000;
const answerMs = 30_000;
const sockets = { keepAlive: true, maxSockets: 50, lookup: guardedLookup };

/** How requests to a bucket go out: only to addresses that may be reached, and no answer is taken beyond a limit. */
export class BucketHandler extends NodeHttpHandler {
  /** `authority`: the certificate authority that certificates are checked with, as text; null for those the system trusts. */
  constructor(authority: string | null) {
    super({
      connectionTimeout: connectMs,
      requestTimeout: answerMs,
      throwOnRequestTimeout: true,
      httpAgent: new http.Agent(sockets),
      httpsAgent: new https.Agent({ ...sockets, ...(authority !== null && { ca: authority }) }),
    });
  }

  override async handle(...[request, options]: Parameters<NodeHttpHandler['handle']>): ReturnType<NodeHttpHandler['handle']> {
    checkHost(request.hostname);
    const { response } = await super.handle(request, options);
    if (response.body) response.body = atMost(response.body as Readable, mostBytes);
    return { response };
  }
}
