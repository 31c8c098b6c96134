// A server for calendars and contacts (CalDAV, CardDAV) of our own on loopback, without the system's service manager.
import { spawn } from 'node:child_process';
import { closeSync, mkdirSync, openSync, readFileSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { freePort } from './mariadb.mjs';

const pause = (ms) => new Promise((resume) => setTimeout(resume, ms));

/** Starts a server in `folder` (made on first use). `people`: login to password; `keeper`: an account that may read and write everything. Collections lie in `folder`/collections/collection-root/LOGIN. */
export async function startRadicale(folder, { people, keeper, port: wanted = 0 }) {
  const port = await freePort(wanted);
  mkdirSync(path.join(folder, 'collections'), { recursive: true });
  const lines = [...Object.entries(people), [keeper.name, keeper.password]].map(([name, password]) => `${name}:${password}\n`);
  writeFileSync(path.join(folder, 'users'), lines.join(''));
  writeFileSync(
    path.join(folder, 'rights'),
    `[keeper]
user: ${keeper.name}
collection: .*
permissions: RrWw
[root]
user: .+
collection:
permissions: R
[own]
user: .+
collection: {user}(/.*)?
permissions: RrWw
`,
  );
  const file = path.join(folder, 'server.conf');
  writeFileSync(
    file,
    `[server]
hosts = 127.0.0.1:${port}
[auth]
type = htpasswd
htpasswd_filename = ${folder}/users
htpasswd_encryption = plain
delay = 0
[rights]
type = from_file
file = ${folder}/rights
[storage]
filesystem_folder = ${folder}/collections
[logging]
level = warning
`,
  );
  const output = openSync(path.join(folder, 'output.log'), 'a');
  const child = spawn('/usr/bin/python3', ['-m', 'radicale', '--config', file], { stdio: ['ignore', output, output] });
  closeSync(output);
  const ended = new Promise((resolve) => child.once('exit', resolve));
  let gone = false;
  void ended.then(() => (gone = true));
  const answers = () =>
    fetch(`http://127.0.0.1:${port}/.web/`, { redirect: 'manual' }).then(
      (a) => a.status < 500,
      () => false,
    );
  for (let i = 0; !gone && !(await answers()); i++) {
    if (i > 150) throw new Error(`the calendar server does not answer; see ${folder}/output.log`);
    await pause(100);
  }
  if (gone) throw new Error(`the calendar server did not start: ${readFileSync(path.join(folder, 'output.log'), 'utf8').slice(-500)}`);
  return {
    port,
    pid: child.pid,
    /** Where the collections of somebody lie. */
    collectionsOf: (login) => path.join(folder, 'collections', 'collection-root', login),
    async stop() {
      if (gone) return;
      child.kill('SIGTERM');
      await Promise.race([ended, pause(5000).then(() => child.kill('SIGKILL'))]);
      await ended;
    },
  };
}
