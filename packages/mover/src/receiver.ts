import { once } from 'node:events';
import net from 'node:net';
import tls from 'node:tls';
import { pipeline } from 'node:stream';
import type { Logger } from 'pino';

/** Connections between movers are encrypted by a key that both got for this one of them; there are no certificates to be kept. */
export const byTicket = { minVersion: 'TLSv1.3', ciphers: 'TLS_AES_128_GCM_SHA256' } as const;
const helloMs = 10_000;
const comesMs = 15_000;
const mostAtOnce = 256;

/** What a connection is awaited for: `key` is known to who may come, `socket` is where the task listens. */
export interface Expected {
  readonly id: string;
  readonly key: Uint8Array;
  readonly socket: string;
}

/** Hears movers that only read, and leads each to the task that waits for it. Nobody else gets past the first message. */
export class Receiver {
  private readonly server: tls.Server;
  private readonly expected = new Map<string, Expected>();

  /** `address`: host and port, as the other movers reach them. */
  constructor(
    readonly address: string,
    private readonly log: Logger,
  ) {
    const who = new WeakMap<tls.TLSSocket, string>();
    this.server = tls.createServer({
      ...byTicket,
      handshakeTimeout: helloMs,
      pskCallback: (socket, identity) => {
        who.set(socket, identity);
        const key = this.expected.get(identity)?.key;
        return key ? Buffer.from(key) : null;
      },
    });
    this.server.maxConnections = mostAtOnce;
    this.server.on('tlsClientError', (error) => {
      this.log.warn({ err: error }, 'somebody who is not expected was refused');
    });
    this.server.on('secureConnection', (socket) => {
      const expected = this.expected.get(who.get(socket) ?? '');
      if (!expected) {
        socket.destroy();
        return;
      }
      // a ticket lets in once
      this.expected.delete(expected.id);
      const inside = net.connect(expected.socket);
      const over = () => undefined;
      pipeline(socket, inside, over);
      pipeline(inside, socket, over);
    });
  }

  /** Throws what the system refuses. */
  listen(): Promise<void> {
    const { host, port } = placeOf(this.address);
    return new Promise((resolve, reject) => {
      this.server.once('error', reject);
      this.server.listen(port, host, () => {
        this.server.off('error', reject);
        resolve();
      });
    });
  }

  expect(expected: Expected): void {
    this.expected.set(expected.id, expected);
  }

  /** Lets nobody come for it any more. */
  forget(id: string): void {
    this.expected.delete(id);
  }

  close(): void {
    this.expected.clear();
    this.server.close();
  }
}

/** A connection to a mover that expects whoever has this ticket. Throws what it fails with. */
export async function connectByTicket(address: string, ticket: { readonly id: string; readonly key: string }): Promise<tls.TLSSocket> {
  const stream = tls.connect({
    ...byTicket,
    ...placeOf(address),
    pskCallback: () => ({ psk: Buffer.from(ticket.key, 'hex'), identity: ticket.id }),
    // who knows the ticket is who was meant
    checkServerIdentity: () => undefined,
  });
  stream.on('error', () => undefined);
  try {
    await once(stream, 'secureConnect', { signal: AbortSignal.timeout(comesMs) });
    return stream;
  } catch (error) {
    stream.destroy();
    throw error;
  }
}

/** Host and port of an address as `host:port` or `[v6]:port`. Throws for what is none. */
function placeOf(address: string): { host: string; port: number } {
  const found = /^(?:\[([0-9a-f:]+)\]|([\w.-]+)):(\d{1,5})$/i.exec(address);
  const port = Number(found?.[3]);
  if (!found || port < 1 || port > 65_535) throw new Error(`${address} is no address: give it as host:port`);
  return { host: found[1] ?? found[2]!, port };
}
