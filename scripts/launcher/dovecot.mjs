// A mail server (IMAP) of our own on loopback, without the system's service manager.
import { spawn } from 'node:child_process';
import { chownSync, closeSync, existsSync, mkdirSync, openSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import net from 'node:net';
import path from 'node:path';
import { freePort } from './mariadb.mjs';

const pause = (ms) => new Promise((resume) => setTimeout(resume, ms));

/** Mailboxes belong to an account of the system that nobody signs in as. */
function owner() {
  const line = readFileSync('/etc/passwd', 'utf8')
    .split('\n')
    .find((l) => l.startsWith('mail:'));
  const [, , uid, gid] = line.split(':');
  return [Number(uid), Number(gid)];
}

const settings = (folder, port, [uid, gid], store) => `
base_dir = ${folder}/run
state_dir = ${folder}/state
log_path = ${folder}/server.log
protocols = imap
listen = 127.0.0.1
ssl = no
disable_plaintext_auth = no
auth_mechanisms = plain
auth_master_user_separator = *
auth_username_chars = abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ01234567890.-_@*
mail_home = ${folder}/mail/%n
mail_location = ${store}
mail_uid = ${uid}
mail_gid = ${gid}
first_valid_uid = 1
mail_fsync = never
mail_max_userip_connections = 50
mail_plugins = quota
service imap-login {
  service_count = 0
  inet_listener imap {
    port = ${port}
  }
  inet_listener imaps {
    port = 0
  }
}
service anvil {
  unix_listener anvil-auth-penalty {
    mode = 0
  }
}
namespace inbox {
  inbox = yes
  separator = /
  mailbox Drafts {
    special_use = \\Drafts
    auto = subscribe
  }
  mailbox Sent {
    special_use = \\Sent
    auto = subscribe
  }
  mailbox Trash {
    special_use = \\Trash
    auto = subscribe
  }
}
protocol imap {
  mail_plugins = quota imap_quota
}
plugin {
  quota = count:storage
  quota_vsizes = yes
  quota_rule = *:storage=2G
}
passdb {
  driver = passwd-file
  args = scheme=plain ${folder}/masters
  master = yes
  result_success = continue
}
passdb {
  driver = passwd-file
  args = scheme=plain ${folder}/people
}
userdb {
  driver = passwd-file
  args = ${folder}/people
}
`;

async function answers(port) {
  const socket = net.connect(port, '127.0.0.1');
  try {
    return await new Promise((resolve) => {
      socket.once('data', (data) => resolve(data.toString().startsWith('* OK')));
      socket.once('error', () => resolve(false));
      setTimeout(() => resolve(false), 1000);
    });
  } finally {
    socket.destroy();
  }
}

/**
 * Starts a mail server in `folder` (made on first use). `people`: login to password, and bytes they may have; none for those of before; `masters`: accounts that sign in for anybody, as `person*account`.
 * Mailboxes lie in `folder`/mail/LOGIN/store.
 */
export async function startDovecot(folder, { people, masters, port: wanted = 0, store = 'maildir:~/store:LAYOUT=fs' }) {
  const port = await freePort(wanted);
  const who = owner();
  for (const name of ['run', 'state', 'mail']) mkdirSync(path.join(folder, name), { recursive: true });
  chownSync(path.join(folder, 'mail'), ...who);
  const setPeople = (all) => {
    const line = ([login, { password, storage }]) =>
      `${login}:${password}:::::${storage ? `:userdb_quota_rule=*:storage=${storage}B` : ''}`;
    writeFileSync(path.join(folder, 'people'), `${Object.entries(all).map(line).join('\n')}\n`);
  };
  if (Object.keys(people).length || !existsSync(path.join(folder, 'people'))) setPeople(people);
  writeFileSync(
    path.join(folder, 'masters'),
    Object.entries(masters)
      .map(([login, password]) => `${login}:${password}\n`)
      .join(''),
  );
  const file = path.join(folder, 'server.conf');
  writeFileSync(file, settings(folder, port, who, store));
  // what a server that was killed left would keep this one from starting
  rmSync(path.join(folder, 'run', 'master.pid'), { force: true });
  const output = openSync(path.join(folder, 'output.log'), 'a');
  const child = spawn('/usr/sbin/dovecot', ['-F', '-c', file], { stdio: ['ignore', output, output] });
  closeSync(output);
  const ended = new Promise((resolve) => child.once('exit', resolve));
  let gone = false;
  void ended.then(() => (gone = true));
  for (let i = 0; !gone && !(await answers(port)); i++) {
    if (i > 100) throw new Error(`the mail server does not answer; see ${folder}/server.log`);
    await pause(100);
  }
  if (gone) throw new Error(`the mail server did not start: ${readFileSync(path.join(folder, 'output.log'), 'utf8').slice(-500)}`);
  return {
    port,
    pid: child.pid,
    owner: who,
    setPeople,
    /** Where the messages of somebody lie. */
    storeOf: (login) => path.join(folder, 'mail', login, 'store'),
    async stop() {
      if (gone) return;
      child.kill('SIGTERM');
      await Promise.race([ended, pause(5000).then(() => child.kill('SIGKILL'))]);
      await ended;
    },
  };
}
