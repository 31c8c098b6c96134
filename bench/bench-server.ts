import fs from 'node:fs';
import { routes, type RouteName } from '@lithodex/contract';
import { Config, issueToken, runServer, type RunningServer } from '@lithodex/server';

/** A server with an empty database of its own, and how to time its answers. */
export interface BenchServer {
  readonly server: RunningServer;
  /** Seconds until the answer is there whole. */
  readonly ask: (name: RouteName, id: string, query: string, body?: string) => Promise<number>;
  readonly stop: () => Promise<void>;
}

export async function startBenchServer(folder: string, webDir = folder): Promise<BenchServer> {
  const { startMariadb } = await import('../scripts/launcher/mariadb.mjs');
  fs.chmodSync(folder, 0o755);
  const account = { name: 'lithodex', user: 'lithodex', password: 'bench' };
  // several benches of one run have a database each
  const own = fs.mkdtempSync(`${folder}/server-`);
  fs.chmodSync(own, 0o755);
  const database = await startMariadb(`${own}/db`, account);
  const server = await runServer(
    Config.parse({
      port: 0,
      sessionSecret: '00'.repeat(32),
      webDir,
      database: { port: database.port, ...account },
      schedulerMs: 0,
      logLevel: 'silent',
    }),
  );
  const token = await issueToken(server.deps, 'bench', 'administrator', 'bench');
  return {
    server,
    async ask(name, id, query, body) {
      const began = performance.now();
      const response = await fetch(`http://127.0.0.1:${server.port}/api/v1${routes[name].path.replace(':id', id)}${query}`, {
        method: routes[name].method.toUpperCase(),
        headers: { authorization: `Bearer ${token}`, 'content-type': 'application/json' },
        ...(body !== undefined && { body }),
      });
      if (!response.ok) throw new Error(await response.text());
      await response.arrayBuffer();
      return (performance.now() - began) / 1000;
    },
    async stop() {
      await server.close();
      await database.stop();
    },
  };
}

/** The value that 95 of 100 stay below. */
export const p95 = (values: number[]) => values.sort((a, b) => a - b)[Math.floor(values.length * 0.95)]!;
