import { createHash, createPrivateKey, X509Certificate } from 'node:crypto';
import { readFileSync } from 'node:fs';
import http from 'node:http';
import https from 'node:https';
import net from 'node:net';
import type { Logger } from 'pino';
import type { Config } from '../config';

/** First byte of every TLS connection: a record of its handshake (RFC 8446, 5.1). */
const handshake = 0x16;
/** Who says nothing for so long is let go, ms. */
const silentMs = 30_000;
/** Files of the certificate are looked at so often, ms. */
const lookMs = 30_000;

/** Something that listens, and ends. */
export interface Listening {
  readonly port: number;
  /** Lets calls that are under way end, for a moment. */
  close(): Promise<void>;
}

interface Files {
  readonly cert: Buffer;
  readonly key: Buffer;
  readonly sum: string;
}

function readFiles({ certificate, key }: NonNullable<Config['tls']>): Files {
  const files = { cert: readFileSync(certificate), key: readFileSync(key) };
  const sum = createHash('sha256').update(files.cert).update(files.key).digest('hex');
  return { ...files, sum };
}

/** Sends who comes without TLS on to the same address with it. */
function toHttps(portOf: () => number): http.RequestListener {
  return (req, res) => {
    const host = /^(\[[0-9a-fA-F:.]+\]|[A-Za-z0-9.-]+)(?::\d+)?$/.exec(req.headers.host ?? '')?.[1];
    if (!host) {
      res.writeHead(400).end();
      return;
    }
    const port = portOf() === 443 ? '' : `:${portOf()}`;
    // a form that was sent without TLS is not sent again by itself
    res.writeHead(req.method === 'GET' || req.method === 'HEAD' ? 308 : 426, { location: `https://${host}${port}${req.url ?? '/'}` }).end();
  };
}

/** Tells by the first byte whether somebody speaks TLS, and gives the connection to who understands it. */
function telling(secure: https.Server, plain: http.Server): net.Server {
  return net.createServer((socket) => {
    socket.setTimeout(silentMs, () => socket.destroy());
    socket.on('error', () => socket.destroy());
    socket.once('data', (first: Buffer) => {
      socket.setTimeout(0);
      socket.pause();
      socket.unshift(first);
      (first[0] === handshake ? secure : plain).emit('connection', socket);
      process.nextTick(() => socket.resume());
    });
  });
}

/** Takes a certificate whose files changed; one that is not whole yet is looked at again. */
function followFiles(server: https.Server, tls: NonNullable<Config['tls']>, taken: string, log: Logger, everyMs: number): () => void {
  let [sum, told] = [taken, ''];
  const timer = setInterval(() => {
    try {
      const files = readFiles(tls);
      if (files.sum === sum) return;
      // a certificate whose key is still that of before is half of a change
      if (!new X509Certificate(files.cert).checkPrivateKey(createPrivateKey(files.key)))
        throw new Error('certificate and key do not belong together');
      server.setSecureContext({ cert: files.cert, key: files.key });
      sum = files.sum;
      told = '';
      log.info({ until: new X509Certificate(files.cert).validTo }, 'another certificate was taken');
    } catch (error) {
      const words = String(error);
      if (told !== words) log.error({ err: error }, 'the certificate can not be taken; the one before is kept');
      told = words;
    }
  }, everyMs);
  return () => {
    clearInterval(timer);
  };
}

const opened = (server: net.Server, port: number, host: string) =>
  new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.listen(port, host, resolve);
  });

const portOf = (server: net.Server) => (server.address() as { port: number }).port;
const patient = (server: http.Server) => {
  server.requestTimeout = 0;
  server.keepAliveTimeout = 75_000;
  return server;
};

/** Listens as the configuration says: by HTTPS with its certificate, or without. Throws what the system says of an address it can not have, or of files it can not read. */
export async function listen(
  app: http.RequestListener,
  config: Pick<Config, 'host' | 'port' | 'tls' | 'redirectPort'>,
  log: Logger,
  everyMs = lookMs,
): Promise<Listening> {
  if (!config.tls) {
    const server = patient(http.createServer(app));
    await opened(server, config.port, config.host);
    return { port: portOf(server), close: () => ended([server], [server]) };
  }
  const files = readFiles(config.tls);
  const secure = https.createServer({ cert: files.cert, key: files.key, minVersion: 'TLSv1.2' }, app);
  patient(secure);
  const plain = http.createServer(toHttps(() => portOf(door)));
  const door = telling(secure, plain);
  await opened(door, config.port, config.host);
  const redirecting = config.redirectPort === undefined ? [] : [http.createServer(toHttps(() => portOf(door)))];
  for (const server of redirecting) await opened(server, config.redirectPort!, config.host);
  const forget = followFiles(secure, config.tls, files.sum, log, everyMs);
  return {
    port: portOf(door),
    close() {
      forget();
      return ended([door, ...redirecting], [secure, plain, ...redirecting]);
    },
  };
}

const patienceMs = 1500;

async function ended(doors: readonly net.Server[], speaking: readonly (http.Server | https.Server)[]): Promise<void> {
  for (const server of speaking) server.closeIdleConnections();
  const closed = Promise.all(doors.map((door) => new Promise((done) => door.close(done))));
  await Promise.race([closed, new Promise((done) => setTimeout(done, patienceMs))]);
  for (const server of speaking) server.closeAllConnections();
}
