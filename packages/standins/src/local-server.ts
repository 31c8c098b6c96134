import type { Server } from 'node:http';
import type { AddressInfo } from 'node:net';

/** Listens on the loopback address, at any free port unless one is given, and returns the address. */
export async function listenLocally(server: Server, port = 0): Promise<string> {
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.listen(port, '127.0.0.1', resolve);
  });
  return `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
}

/** Ends a server and the connections it has. */
export async function stopListening(server: Server): Promise<void> {
  server.closeAllConnections();
  await new Promise((resolve) => server.close(resolve));
}
