import net from 'node:net';
import tls from 'node:tls';
import { byTicket } from '../receiver';
import { agreeOnTls, NbdConnection, type Session } from './nbd-connection';

const mostConnections = 32;
const helloMs = 10_000;
/** Who comes names himself so; what counts is the key. */
export const nbdUser = 'lithodex';

/** Shows exports to whoever knows the key: all that is said before that is that it has to be encrypted. */
export class NbdServer {
  private readonly server: net.Server;
  private readonly secure: tls.Server;
  private readonly sockets = new Set<net.Socket>();

  constructor(
    private readonly session: Session,
    key: Buffer,
  ) {
    this.secure = tls.createServer({
      ...byTicket,
      handshakeTimeout: helloMs,
      pskCallback: (_socket, identity) => (identity === nbdUser ? key : null),
    });
    this.secure.on('secureConnection', (stream) => {
      stream.on('error', () => stream.destroy());
      void new NbdConnection(stream, this.session).serve().catch(() => stream.destroy());
    });
    this.secure.on('tlsClientError', (_error, stream) => stream.destroy());
    this.server = net.createServer((socket) => void this.welcome(socket));
    this.server.maxConnections = mostConnections;
  }

  /** Connections that are open. */
  get clients(): number {
    return this.sockets.size;
  }

  private async welcome(socket: net.Socket): Promise<void> {
    this.sockets.add(socket);
    socket.on('close', () => this.sockets.delete(socket));
    socket.on('error', () => socket.destroy());
    socket.setNoDelay(true);
    const patience = setTimeout(() => socket.destroy(), helloMs);
    const agreed = await agreeOnTls(socket).catch(() => false);
    clearTimeout(patience);
    if (agreed) this.secure.emit('connection', socket);
    else socket.destroy();
  }

  /** Listens at this port, or at one of its own for 0; gives it. */
  listen(host: string, port = 0): Promise<number> {
    return new Promise((resolve, reject) => {
      this.server.once('error', reject);
      this.server.listen(port, host, () => {
        resolve((this.server.address() as net.AddressInfo).port);
      });
    });
  }

  close(): void {
    this.server.close();
    for (const socket of this.sockets) socket.destroy();
  }
}
