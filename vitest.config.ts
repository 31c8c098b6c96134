import path from 'node:path';
import { defineConfig } from 'vitest/config';

const alias = Object.fromEntries(
  ['core', 'contract', 'net', 'engine', 'connectors', 'mover', 'server'].map((name) => [
    `@lithodex/${name}`,
    path.resolve(`packages/${name}/src/index.ts`),
  ]),
);
const project = (name: string, include: string[], timeout: number) => ({
  resolve: { alias },
  test: { name, include, environment: 'node' as const, testTimeout: timeout, hookTimeout: timeout, fileParallelism: name !== 'browser' },
});

export default defineConfig({
  test: {
    projects: [
      project('unit', ['packages/*/src/**/*.test.ts', 'demo/**/*.test.ts', 'scripts/**/*.test.ts'], 60_000),
      project('api', ['tests/api/**/*.test.ts'], 240_000),
      project('browser', ['tests/browser/**/*.test.ts'], 300_000),
    ],
  },
});
