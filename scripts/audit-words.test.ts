import fs from 'node:fs';
import path from 'node:path';
import { describe, expect, it } from 'vitest';

const server = path.resolve('packages/server/src');
const words = fs.readFileSync(path.resolve('packages/web/src/app/trust/audit-words.ts'), 'utf8');

/** Every act that the server writes into the audit trail. */
function acts(): string[] {
  const files = fs.readdirSync(server, { recursive: true, encoding: 'utf8' }).filter((f) => f.endsWith('.ts') && !f.endsWith('.test.ts'));
  const found = files.flatMap((file) => {
    const text = fs.readFileSync(path.join(server, file), 'utf8');
    const calls = text.matchAll(/(?:action:|audit(?:ed|Test)?\(|recorded\(|care\()[^;{}]*/g);
    return [...calls].flatMap(([call]) => [...call.matchAll(/'([a-z][A-Za-z]*\.[a-z][A-Za-z]*)'/g)].map((m) => m[1]!));
  });
  return [...new Set(found)].sort();
}

describe('the audit trail', () => {
  it('has a sentence for every act', () => {
    const all = acts();
    expect(all.length).toBeGreaterThan(60);
    expect(all.filter((act) => !words.includes(`'${act}':`))).toEqual([]);
  });
});
