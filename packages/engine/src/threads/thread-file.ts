import { existsSync } from 'node:fs';
import path from 'node:path';
import { fileURLToPath } from 'node:url';

/** Path of a built thread: beside the running bundle, or in dist/node of the repository when run from source. */
export function threadFile(name: string): string {
  const here = path.dirname(fileURLToPath(import.meta.url));
  const beside = path.join(here, `${name}.js`);
  if (existsSync(beside)) return beside;
  for (let at = here; at !== path.dirname(at); at = path.dirname(at)) {
    const built = path.join(at, 'dist', 'node', `${name}.js`);
    if (existsSync(built)) return built;
  }
  throw new Error(`${name}.js is not built; run "npm run build"`);
}
