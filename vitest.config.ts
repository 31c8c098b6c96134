import path from 'node:path';
import { defineConfig, type TestProjectInlineConfiguration } from 'vitest/config';
import { BaseSequencer, type TestSpecification } from 'vitest/node';

const alias = Object.fromEntries(
  ['core', 'kinds', 'contract', 'net', 'volumes', 'engine', 'connectors', 'mover', 'server', 'cli', 'reader'].map((name) => [
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
  test: {
    name,
    include,
    environment: 'node',
    testTimeout: timeout,
    hookTimeout: timeout,
    isolate: false,
    maxWorkers: 2,
    // every processor has a worker already
    execArgv: ['--single-threaded-gc', '--min-semi-space-size=16'],
    ...more,
  },
});
/** Whole files of tests that take long and show what others show more briefly, or of another family: run by "./lithodex test long" only. */
const byCommand = [
  'application-care',
  'cartridges',
  'database-care',
  'database-members',
  'database-turns',
  'edited',
  'follow-kills',
  'followed-log',
  'machines-night',
  'office-odd',
  'pauses',
  'postgresql-care',
  'postgresql-log',
  'running-machines',
  'take-over',
].map((name) => `tests/api/${name}.test.ts`);
const byCommandOnScreen = ['applications', 'postgresql', 'rebuild'].map((name) => `tests/browser/${name}.test.ts`);
const exclude = process.env['LITHODEX_LONG'] === '1' ? [] : [...byCommand, ...byCommandOnScreen];

/** What takes longest goes first, so that nothing is waited for at the end. */
const longest = [
  'followed-log',
  'database-care',
  'postgresql-care',
  'database-log',
  'bucket-workloads',
  'reading-movers',
  'units',
  'kill',
  'fuzz',
  'installed',
  'journey',
  'take-point',
  'machines',
  'office',
].map((name) => `/${name}.test.ts`);
class LongestFirst extends BaseSequencer {
  override async sort(files: TestSpecification[]): Promise<TestSpecification[]> {
    const rest = await super.sort(files);
    const first = longest.flatMap((end) => rest.filter((file) => file.moduleId.endsWith(end)));
    return [...new Set([...first, ...rest])];
  }
}
const globalSetup = 'tests/support/shared-database.ts';

export default defineConfig({
  test: {
    sequence: { sequencer: LongestFirst },
    // the kinds of tests run one after the other, and load the same
    experimental: { fsModuleCache: true },
    projects: [
      project('unit', ['packages/*/src/**/*.test.ts', 'demo/**/*.test.ts', 'bench/**/*.test.ts', 'scripts/**/*.test.ts'], 240_000),
      // they wait for databases and leases for a good part
      project('api', ['tests/api/**/*.test.ts'], 240_000, { globalSetup, maxWorkers: 3, exclude }),
      // a machine in software, by command only
      project('metal', ['tests/metal/**/*.test.ts'], 900_000),
      project('browser', ['tests/browser/**/*.test.ts'], 300_000, { globalSetup, exclude }),
    ],
  },
});
