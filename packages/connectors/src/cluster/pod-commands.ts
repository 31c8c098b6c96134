import { Writable } from 'node:stream';
import type { Cluster } from '@lithodex/kinds';
import { EngineError } from '@lithodex/engine';
import { checkHost, guardedLookup } from '@lithodex/net';
import WebSocket from 'ws';
import { z } from 'zod';
import { bearer } from '../service-client';
import { SourceError } from '../source-error';

/** Streams of the protocol, by number; `close` ends one of them. */
const stream = { stdin: 0, stdout: 1, stderr: 2, status: 3, close: 255 } as const;
/** The first that lets one end what goes in, without which no program knows that all of it came. */
const protocol = 'v5.channel.k8s.io';
const handshakeMs = 30_000;
/** Nothing comes or goes for so long: it hangs. */
const silenceMs = 300_000;
const mostWaiting = 8 << 20;
const mostComplaint = 4000;
const lookMs = 500;

const Status = z.looseObject({
  status: z.string(),
  message: z.string().optional(),
  details: z
    .looseObject({ causes: z.array(z.looseObject({ reason: z.string().optional(), message: z.string().optional() })).default([]) })
    .optional(),
});

export interface InPod {
  readonly namespace: string;
  readonly pod: string;
  readonly container: string;
}

export interface CommandStreams {
  readonly stdin?: AsyncIterable<Uint8Array>;
  /** Takes what it writes; it is waited for. */
  readonly stdout?: Writable;
  /** It has to be done by then, ms. */
  readonly mostMs?: number;
  readonly stopped?: (() => boolean) | undefined;
}

/** How a command ended. */
export interface Ended {
  readonly code: number;
  /** What it complained of, its beginning. */
  readonly complaint: string;
}

/** Runs a command in a pod, with what goes in and comes out. Throws SourceError, STOPPED. */
export function runInPod(cluster: Cluster, at: InPod, command: readonly string[], streams: CommandStreams = {}): Promise<Ended> {
  const url = new URL(
    `${cluster.endpoint.replace(/^http/, 'ws')}/api/v1/namespaces/${encodeURIComponent(at.namespace)}/pods/${encodeURIComponent(at.pod)}/exec`,
  );
  checkHost(url.hostname);
  url.searchParams.set('container', at.container);
  for (const name of ['stdout', 'stderr'] as const) url.searchParams.set(name, 'true');
  if (streams.stdin) url.searchParams.set('stdin', 'true');
  for (const word of command) url.searchParams.append('command', word);
  const socket = new WebSocket(url, [protocol], {
    headers: { authorization: bearer(cluster.token) },
    handshakeTimeout: handshakeMs,
    maxPayload: 64 << 20,
    perMessageDeflate: false,
    lookup: guardedLookup,
    ...(cluster.authority !== null && { ca: cluster.authority }),
  });
  return new Promise<Ended>((resolve, reject) => {
    new Running(socket, streams, resolve, reject);
  });
}

/** The same of one that has to end well. Throws COMMAND_FAILED with what it complained of. */
export async function doInPod(cluster: Cluster, at: InPod, command: readonly string[], streams: CommandStreams = {}): Promise<void> {
  const { code, complaint } = await runInPod(cluster, at, command, streams);
  if (code !== 0) throw new SourceError('COMMAND_FAILED', `${command[0]} in ${at.pod} ended with ${code}${complaint && `: ${complaint}`}`);
}

class Running {
  private complaint = '';
  private ended: Ended | undefined;
  private moved = Date.now();
  private readonly began = Date.now();
  private readonly watch: NodeJS.Timeout;

  constructor(
    private readonly socket: WebSocket,
    private readonly streams: CommandStreams,
    private readonly resolve: (ended: Ended) => void,
    private readonly reject: (error: Error) => void,
  ) {
    this.watch = setInterval(() => {
      this.look();
    }, lookMs);
    // what takes the output may end before the command does, or refuse what comes
    streams.stdout?.on('error', (error) => {
      this.fail(error);
    });
    streams.stdout?.on('close', () => {
      if (!this.ended) this.fail(new SourceError('COMMAND_FAILED', 'nobody reads what it writes'));
    });
    socket.on('open', () => void this.send());
    socket.on('message', (data: Buffer) => {
      this.take(data);
    });
    socket.on('unexpected-response', (_, response) => {
      const code =
        response.statusCode === 401 ? 'CLUSTER_REFUSED' : response.statusCode === 403 ? 'CLUSTER_RIGHT_MISSING' : 'COMMAND_FAILED';
      this.fail(new SourceError(code, `the cluster lets no command run in the pod (${response.statusCode})`));
    });
    socket.on('error', (error) => {
      this.fail(new SourceError('CLUSTER_AWAY', `the command in the pod: ${(error as { code?: string }).code ?? 'the connection failed'}`));
    });
    socket.on('close', () => {
      this.close();
    });
  }

  private look(): void {
    const { stopped, mostMs = Number.POSITIVE_INFINITY } = this.streams;
    const now = Date.now();
    if (stopped?.()) this.fail(new EngineError('STOPPED'));
    else if (now - this.began > mostMs)
      this.fail(new SourceError('COMMAND_FAILED', `it did not end within ${Math.round(mostMs / 1000)} s`));
    else if (now - this.moved > silenceMs) this.fail(new SourceError('COMMAND_FAILED', 'it hangs'));
  }

  private fail(error: Error): void {
    clearInterval(this.watch);
    this.reject(error);
    this.socket.close();
    // what still comes is read, so that its end is heard
    if (this.socket.isPaused) this.socket.resume();
    this.streams.stdout?.destroy(error);
  }

  private close(): void {
    clearInterval(this.watch);
    const { ended } = this;
    if (!ended) {
      this.fail(new SourceError('CLUSTER_AWAY', 'the command in the pod: the connection ended before it did'));
      return;
    }
    const done = (error?: Error | null) => {
      if (error) this.reject(error);
      else this.resolve(ended);
    };
    if (this.streams.stdout) this.streams.stdout.end(done);
    else done();
  }

  private take(data: Buffer): void {
    this.moved = Date.now();
    const body = data.subarray(1);
    if (data[0] === stream.stdout && this.streams.stdout) {
      if (body.length === 0 || this.streams.stdout.destroyed || this.streams.stdout.write(body)) return;
      this.socket.pause();
      this.streams.stdout.once('drain', () => {
        this.moved = Date.now();
        this.socket.resume();
      });
    } else if (data[0] === stream.stderr && this.complaint.length < mostComplaint)
      this.complaint += body.toString().slice(0, mostComplaint);
    else if (data[0] === stream.status) {
      this.ended = { code: codeOf(body.toString()), complaint: this.complaint.replaceAll(/[\p{Cc}\p{Cf}]+/gu, ' ').trim() };
      this.socket.close();
    }
  }

  private async send(): Promise<void> {
    const { stdin } = this.streams;
    if (!stdin) return;
    try {
      for await (const part of stdin) {
        if (this.ended) return;
        await this.put(Buffer.concat([Buffer.from([stream.stdin]), part]));
      }
      await this.put(Buffer.from([stream.close, stream.stdin]));
    } catch (error) {
      this.fail(error instanceof Error ? error : new Error(String(error)));
    }
  }

  /** Sends, and waits while too much is under way. */
  private put(data: Buffer): Promise<void> {
    this.moved = Date.now();
    return new Promise((resolve, reject) => {
      const full = this.socket.bufferedAmount > mostWaiting;
      this.socket.send(data, (error) => {
        this.moved = Date.now();
        if (this.ended || (!error && full)) resolve();
        else if (error) reject(new SourceError('CLUSTER_AWAY', 'the command in the pod: the connection broke'));
      });
      if (!full) resolve();
    });
  }
}

/** What a command ended with. */
function codeOf(text: string): number {
  try {
    const { status, details } = Status.parse(JSON.parse(text));
    if (status === 'Success') return 0;
    const said = Number(details?.causes.find((c) => c.reason === 'ExitCode')?.message);
    return Number.isInteger(said) && said > 0 ? said : 1;
  } catch {
    return 1;
  }
}
