import { execFileSync, spawn } from 'node:child_process';
import fs from 'node:fs';
import http from 'node:http';
import net from 'node:net';
import path from 'node:path';
import { pipeline } from 'node:stream/promises';

export const smbAccount = 'nobody';
export const smbPassword = 'gulls; over "the" mole';

/** Debian's SMB server on loopback, with one share that only an account may use, encrypted; and `more`, each a folder that is there. */
export async function startSamba(
  folder: string,
  more: Readonly<Record<string, string>> = {},
  wanted?: number,
): Promise<{ port: number; share: string; stop: () => Promise<void> }> {
  const share = `${folder}/share`;
  for (const name of ['private', 'run', 'share']) fs.mkdirSync(`${folder}/${name}`, { recursive: true });
  fs.chmodSync(share, 0o777);
  for (let at = folder; at !== '/' && at !== '/tmp'; at = path.dirname(at)) fs.chmodSync(at, 0o755);
  const port = await new Promise<number>((resolve) => {
    const probe = net.createServer().listen(wanted ?? 0, '127.0.0.1', () => {
      const { port: free } = probe.address() as net.AddressInfo;
      probe.close(() => resolve(free));
    });
  });
  const own = ['lock directory', 'state directory', 'cache directory', 'pid directory', 'ncalrpc dir'].map(
    (what) => `${what} = ${folder}/run`,
  );
  const config = [
    '[global]',
    'server role = standalone server',
    `smb ports = ${port}`,
    'bind interfaces only = yes',
    'interfaces = 127.0.0.1',
    `private dir = ${folder}/private`,
    ...own,
    `passdb backend = tdbsam:${folder}/private/passdb.tdb`,
    'server min protocol = SMB3',
    'server smb encrypt = required',
    'load printers = no',
    'disable spoolss = yes',
    `log file = ${folder}/log`,
    '[returned]',
    `path = ${share}`,
    'read only = no',
    '[closed]',
    `path = ${share}`,
    'read only = yes',
    ...Object.entries(more).flatMap(([name, own]) => [`[${name}]`, `path = ${own}`, 'read only = no', `comment = what ${name} is for`]),
  ];
  fs.writeFileSync(`${folder}/smb.conf`, `${config.join('\n')}\n`);
  execFileSync('pdbedit', ['-s', `${folder}/smb.conf`, '-a', '-t', '-u', smbAccount], {
    input: `${smbPassword}\n${smbPassword}\n`,
    stdio: 'pipe',
  });
  // it takes its whole process group with it when it ends
  const child = spawn('smbd', ['-F', '-s', `${folder}/smb.conf`, '--no-process-group'], { stdio: 'ignore', detached: true });
  const up = () =>
    new Promise<boolean>((resolve) => {
      const socket = net.connect(port, '127.0.0.1', () => {
        socket.destroy();
        resolve(true);
      });
      socket.on('error', () => resolve(false));
    });
  for (const until = Date.now() + 20_000; !(await up());) {
    if (Date.now() > until) throw new Error(`the SMB server did not start: ${fs.readFileSync(`${folder}/log`, 'utf8').slice(-1000)}`);
    await new Promise((resume) => setTimeout(resume, 50));
  }
  return {
    port,
    share,
    stop: () =>
      new Promise((resolve) => {
        child.on('exit', () => resolve());
        child.kill('SIGTERM');
      }),
  };
}

/** A small WebDAV server over a folder, for one account. `spoil`: what it answers when asked for a file, in place of it. */
export function startWebdav(folder: string, account: string, password: string) {
  const served = { spoil: false, full: false };
  const authorization = `Basic ${Buffer.from(`${account}:${password}`).toString('base64')}`;
  const server = http.createServer((req, res) => {
    const answer = async (): Promise<number> => {
      if (req.headers.authorization !== authorization) return 401;
      const at = path.join(folder, decodeURIComponent(new URL(req.url!, 'http://x').pathname));
      if (req.method === 'MKCOL') {
        if (fs.existsSync(at)) return 405;
        fs.mkdirSync(at);
        return 201;
      }
      if (req.method === 'PUT') {
        if (served.full) return 507;
        await pipeline(req, fs.createWriteStream(at));
        return 201;
      }
      if (req.method === 'DELETE') {
        fs.rmdirSync(at);
        return 204;
      }
      if (req.method !== 'GET') return 405;
      res.writeHead(200);
      res.end(served.spoil ? 'something else' : fs.readFileSync(at));
      return 200;
    };
    answer().then(
      (status) => {
        req.resume();
        if (!res.headersSent) res.writeHead(status).end();
      },
      () => res.writeHead(409).end(),
    );
  });
  return new Promise<{ url: string; served: typeof served; stop: () => void }>((resolve) => {
    server.listen(0, '127.0.0.1', () => {
      resolve({ url: `http://127.0.0.1:${(server.address() as net.AddressInfo).port}/dav`, served, stop: () => server.close() });
    });
  });
}
