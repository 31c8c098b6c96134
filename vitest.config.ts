import path from 'node:path';
import { defineConfig, type TestProjectInlineConfiguration } from 'vitest/config';

const alias = Object.fromEntries(
  ['core', 'contract', 'net', 'engine', 'connectors', 'mover', 'server'].map((name) => [
    `@lithodex/${name}`,
    path.resolve(`packages/${name}/src/index.ts`),
  ]),
);
const project = (
  name: string,
  include: string[],
  timeout: number,
  more: TestProjectInlineConfiguration['test'] = {},
): TestProjectInlineConfiguration => ({
  resolve: { alias },
  // the files of a worker share what they import: most of them take longer to load the product than to try it
  test: { name, include, environment: 'node', testTimeout: timeout, hookTimeout: timeout, isolate: false, maxWorkers: 2, ...more },
});
const globalSetup = 'tests/support/shared-database.ts';

export default defineConfig({
  test: {
    projects: [
      project('unit', ['packages/*/src/**/*.test.ts', 'demo/**/*.test.ts', 'scripts/**/*.test.ts'], 60_000),
      project('api', ['tests/api/**/*.test.ts'], 240_000, { globalSetup }),
      project('browser', ['tests/browser/**/*.test.ts'], 300_000, { globalSetup, fileParallelism: false }),
    ],
  },
});
