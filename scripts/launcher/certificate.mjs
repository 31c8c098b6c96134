// Certificates of an installation: an authority of its own, and by it one for the names it is reached by.
import { spawnSync } from 'node:child_process';
import { X509Certificate } from 'node:crypto';
import { chmodSync, existsSync, mkdirSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import net from 'node:net';
import path from 'node:path';

const authorityDays = 3650;
/** As long as browsers take a certificate at most. */
const ownDays = 397;
const renewBeforeMs = 30 * 86_400_000;

function openssl(folder, args) {
  const done = spawnSync('openssl', args, { cwd: folder, encoding: 'utf8' });
  if (done.error || done.status !== 0) throw new Error(`openssl ${args[0]} failed: ${done.stderr || done.error?.message}`);
}

/** Names as a certificate states them. */
const alternatives = (names) => names.map((name) => `${net.isIP(name) ? 'IP' : 'DNS'}:${name}`).join(',');

/** Whether a certificate stands for all names, and for how long still, ms; undefined where there is none. */
export function standing(file, names = []) {
  if (!existsSync(file)) return undefined;
  const certificate = new X509Certificate(readFileSync(file));
  const missing = names.filter((name) => (net.isIP(name) ? certificate.checkIP(name) : certificate.checkHost(name)) === undefined);
  return {
    until: Date.parse(certificate.validTo),
    from: Date.parse(certificate.validFrom),
    missing,
    names: certificate.subjectAltName ?? '',
  };
}

function makeAuthority(folder, host) {
  const subject = ['-subj', `/CN=Lithodex authority of ${host.slice(0, 40)}`];
  const key = ['-newkey', 'ec', '-pkeyopt', 'ec_paramgen_curve:prime256v1', '-nodes', '-keyout', 'authority.key'];
  const may = ['-addext', 'keyUsage=critical,keyCertSign,cRLSign'];
  openssl(folder, ['req', '-x509', ...key, '-out', 'authority.pem', '-days', String(authorityDays), ...subject, ...may]);
}

function makeOwn(folder, names) {
  const key = ['-newkey', 'ec', '-pkeyopt', 'ec_paramgen_curve:prime256v1', '-nodes', '-keyout', 'new.key'];
  openssl(folder, ['req', ...key, '-out', 'new.csr', '-subj', `/CN=${names[0].slice(0, 60)}`]);
  writeFileSync(
    path.join(folder, 'new.ext'),
    `subjectAltName=${alternatives(names)}\nextendedKeyUsage=serverAuth\nkeyUsage=critical,digitalSignature\nbasicConstraints=critical,CA:FALSE\n`,
  );
  const by = ['-CA', 'authority.pem', '-CAkey', 'authority.key', '-CAcreateserial'];
  openssl(folder, ['x509', '-req', '-in', 'new.csr', ...by, '-out', 'new.pem', '-days', String(ownDays), '-extfile', 'new.ext']);
  // the server looks at both and takes them when they fit
  renameSync(path.join(folder, 'new.key'), path.join(folder, 'server.key'));
  renameSync(path.join(folder, 'new.pem'), path.join(folder, 'server.pem'));
  for (const rest of ['new.csr', 'new.ext']) rmSync(path.join(folder, rest));
}

/**
 * Keeps a certificate for `names` in a folder, made by an authority that is made once: anew when it ends within 30 days or a name is missing.
 * Gives its files, and whether it is another one than before. Throws when openssl fails.
 */
export function ownCertificate(folder, names) {
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  const umask = process.umask(0o077);
  try {
    const authority = path.join(folder, 'authority.pem');
    if (!existsSync(authority)) makeAuthority(folder, names[0]);
    const file = path.join(folder, 'server.pem');
    const now = standing(file, names);
    const renewed = !now || now.missing.length > 0 || now.until - Date.now() < renewBeforeMs;
    if (renewed) makeOwn(folder, names);
    for (const shown of [authority, file]) chmodSync(shown, 0o644);
    return { certificate: file, key: path.join(folder, 'server.key'), authority, renewed };
  } finally {
    process.umask(umask);
  }
}
