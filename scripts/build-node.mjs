// Bundles the processes and threads that run on Node into dist/node.
import { build } from 'esbuild';
import { existsSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import path from 'node:path';

const entries = {
  server: 'packages/server/src/main.ts',
  mover: 'packages/mover/src/main.ts',
  unit: 'packages/mover/src/unit-main.ts',
  extract: 'packages/mover/src/extract-main.ts',
  cli: 'packages/cli/src/main.ts',
  'task-thread': 'packages/mover/src/task-thread.ts',
  'scan-thread': 'packages/mover/src/scan/scan-thread.ts',
  'crunch-thread': 'packages/engine/src/pipeline/crunch-thread.ts',
  'scout-thread': 'packages/connectors/src/files/scout-thread.ts',
  'place-thread': 'packages/connectors/src/files/place-thread.ts',
  'message-thread': 'packages/connectors/src/tenant/message-thread.ts',
  standins: 'packages/standins/src/main.ts',
  demo: 'demo/main.ts',
  'second-site': 'demo/second-site.ts',
  bench: 'bench/main.ts',
  'bench-work': 'bench/store-work.ts',
};
const present = Object.fromEntries(Object.entries(entries).filter(([, file]) => existsSync(file)));
/** Bundled, of which little is used: a thread that loads the whole package takes longer to start than many a task. */
const bundled = ['zod', 'ipaddr.js', 'luxon'];
const needed = ['.', ...readdirSync('packages').map((name) => `packages/${name}`)].flatMap((folder) => {
  const { dependencies = {}, devDependencies = {} } = JSON.parse(readFileSync(`${folder}/package.json`, 'utf8'));
  return Object.keys({ ...dependencies, ...devDependencies });
});
/** What is not bundled is found from dist: there must be the version that was pinned, not one that something else wanted. */
for (const name of readdirSync('packages').filter((name) => name !== 'web')) {
  const { dependencies = {} } = JSON.parse(readFileSync(`packages/${name}/package.json`, 'utf8'));
  for (const [wanted, version] of Object.entries(dependencies)) {
    if (wanted.startsWith('@lithodex/') || bundled.includes(wanted)) continue;
    const found = JSON.parse(readFileSync(`node_modules/${wanted}/package.json`, 'utf8')).version;
    if (found !== version)
      throw new Error(`packages/${name} wants ${wanted} ${version}, dist would find ${found}: name it in package.json of the root too.`);
  }
}
const external = needed.filter((name) => !name.startsWith('@lithodex/') && !bundled.includes(name));
/** Errors of shapes are told in one language: the others would be read by every thread. */
const oneLanguage = {
  name: 'one language',
  setup(bundle) {
    bundle.onLoad({ filter: /[/\\]zod[/\\]v4[/\\]locales[/\\]index\.js$/ }, ({ path: file }) => ({
      contents: "export { default as en } from './en.js';",
      resolveDir: path.dirname(file),
    }));
  },
};
rmSync('dist/node', { recursive: true, force: true });
const common = {
  outdir: 'dist/node',
  bundle: true,
  format: 'esm',
  platform: 'node',
  target: 'node20.19',
  logLevel: 'warning',
  alias: Object.fromEntries(
    ['core', 'kinds', 'contract', 'net', 'volumes', 'engine', 'connectors', 'mover', 'server', 'cli', 'standins'].map((name) => [
      `@lithodex/${name}`,
      `./packages/${name}/src/index.ts`,
    ]),
  ),
};
/** Each on its own: what is bundled together shares files, and a thread would load what only another uses. */
const bundleOf = (out, file) =>
  build({
    ...common,
    entryPoints: [{ out, in: file }],
    splitting: true,
    sourcemap: 'linked',
    external: external.flatMap((name) => [name, `${name}/*`]),
    banner: { js: "import { createRequire as requireFor } from 'node:module'; const require = requireFor(import.meta.url);" },
    plugins: [oneLanguage],
  });
/** Where the reader has nothing of the system, it has what Node and JavaScript alone do. */
const nothingOfTheSystem = {
  name: 'nothing of the system',
  setup(bundle) {
    bundle.onResolve({ filter: /[/\\]native[/\\](zstd|gcm|blake3)$/ }, ({ path: wanted }) => ({
      path: path.resolve(`packages/reader/src/pure/${path.basename(wanted)}.ts`),
    }));
  },
};
/** One file that runs anywhere: it lies on every target. */
const buildReader = () =>
  build({
    ...common,
    entryPoints: [{ out: 'reader', in: 'packages/reader/src/main.ts' }],
    minify: true,
    sourcemap: false,
    splitting: false,
    plugins: [oneLanguage, nothingOfTheSystem],
  });
await Promise.all([...Object.entries(present).map(([out, file]) => bundleOf(out, file)), buildReader()]);
for (const [, from] of readFileSync('dist/node/reader.js', 'utf8').matchAll(/\b(?:from|import)\s*"([^"]+)"/g))
  if (!from.startsWith('node:')) throw new Error(`The reader would need ${from}, which a bare machine does not have.`);
