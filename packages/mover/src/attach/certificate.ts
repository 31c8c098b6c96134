import { execFile } from 'node:child_process';
import { readFileSync } from 'node:fs';
import path from 'node:path';
import net from 'node:net';
import { promisify } from 'node:util';
import { SourceError } from '@lithodex/connectors';
import { systemCode } from '@lithodex/engine';

/** PEM. */
export interface Certificate {
  readonly certificate: string;
  readonly key: string;
}

/** Longer than anything stays attached. */
const days = '8';

/** A certificate for this host that vouches for itself, made in `folder`: whoever attaches is given it to compare. Throws PROGRAM_MISSING. */
export async function ownCertificate(folder: string, host: string): Promise<Certificate> {
  const name = net.isIP(host) ? `IP:${host}` : `DNS:${host}`;
  const files = { key: path.join(folder, 'key.pem'), certificate: path.join(folder, 'certificate.pem') };
  const made = [
    '-keyout',
    files.key,
    '-out',
    files.certificate,
    '-days',
    days,
    '-subj',
    '/CN=Lithodex',
    '-addext',
    `subjectAltName=${name}`,
  ];
  try {
    await promisify(execFile)('openssl', ['req', '-x509', '-newkey', 'ec', '-pkeyopt', 'ec_paramgen_curve:prime256v1', '-nodes', ...made]);
  } catch (error) {
    if (systemCode(error) === 'ENOENT') throw new SourceError('OPENSSL_MISSING', 'openssl');
    throw error;
  }
  return { key: readFileSync(files.key, 'utf8'), certificate: readFileSync(files.certificate, 'utf8') };
}
