import { randomBytes } from 'node:crypto';
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import path from 'node:path';

/** Secrets of an installation of the demo, made once. */
export function secretsOf(state) {
  const file = path.join(state, 'secrets.json');
  if (!existsSync(file))
    writeFileSync(file, JSON.stringify({ session: randomBytes(32).toString('hex'), database: randomBytes(16).toString('hex') }), {
      mode: 0o600,
    });
  return JSON.parse(readFileSync(file, 'utf8'));
}
