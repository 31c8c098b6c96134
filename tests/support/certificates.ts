import { execFileSync } from 'node:child_process';
import fs from 'node:fs';

/** An authority of its own and a certificate for a host, as files. */
export function certificates(folder: string, host: string): { authority: string; certificate: string; key: string } {
  fs.mkdirSync(folder, { recursive: true });
  fs.chmodSync(folder, 0o755);
  const run = (...args: string[]) => execFileSync('openssl', args, { cwd: folder, stdio: 'pipe' });
  fs.writeFileSync(`${folder}/names`, `subjectAltName=IP:${host}`);
  run('req', '-x509', '-newkey', 'rsa:2048', '-nodes', '-keyout', 'ca.key', '-out', 'ca.pem', '-days', '2', '-subj', '/CN=harbour');
  run('req', '-newkey', 'rsa:2048', '-nodes', '-keyout', 'server.key', '-out', 'server.csr', '-subj', `/CN=${host}`);
  run(
    'x509',
    '-req',
    '-in',
    'server.csr',
    '-CA',
    'ca.pem',
    '-CAkey',
    'ca.key',
    '-CAcreateserial',
    '-out',
    'server.pem',
    '-days',
    '2',
    '-extfile',
    'names',
  );
  for (const file of fs.readdirSync(folder)) fs.chmodSync(`${folder}/${file}`, 0o644);
  return { authority: fs.readFileSync(`${folder}/ca.pem`, 'utf8'), certificate: `${folder}/server.pem`, key: `${folder}/server.key` };
}
