import eslint from '@eslint/js';
import angular from 'angular-eslint';
import { defineConfig, globalIgnores } from 'eslint/config';
import globals from 'globals';
import tseslint from 'typescript-eslint';

/** Arrows point one way: what each package may import. */
const arrows = {
  core: [],
  kinds: [],
  contract: ['kinds'],
  net: [],
  volumes: [],
  engine: ['core', 'net'],
  connectors: ['core', 'kinds', 'net', 'volumes', 'engine'],
  mover: ['core', 'kinds', 'contract', 'net', 'volumes', 'engine', 'connectors'],
  server: ['core', 'kinds', 'contract', 'net'],
  web: ['core', 'kinds', 'contract'],
  cli: ['core', 'kinds', 'contract', 'net'],
  reader: ['core', 'engine'],
  standins: [],
};
const packages = Object.keys(arrows);
/** The floors of the server, the lowest first: each may use those below it. */
const floors = ['base', 'records', 'acts', 'places'];
const arrowsOf = (name) => [
  {
    group: packages.filter((p) => p !== name && !arrows[name].includes(p)).map((p) => `@lithodex/${p}`),
    message: `${name} must not know this package; see docs/architecture.md.`,
  },
  ...(name === 'core' || name === 'kinds' || name === 'contract'
    ? [{ group: ['node:*', 'fs', 'path'], message: `${name} runs in a browser too.` }]
    : []),
  { group: ['**/packages/**'], message: 'Import by package name.' },
];
const arrowRules = [
  ...packages.map((name) => ({
    files: [`packages/${name}/src/**/*.ts`],
    ignores: ['**/*.test.ts'],
    rules: { 'no-restricted-imports': ['error', { patterns: arrowsOf(name) }] },
  })),
  ...floors.map((floor, i) => {
    const above = floors.slice(i + 1).map((upper) => `**/${upper}/**`);
    const upwards = above.length
      ? [{ group: above, message: `${floor} must not know the floors above it; see docs/architecture.md.` }]
      : [];
    // a place is no part of another
    const beside = floor === 'places' ? [{ regex: '^\\.\\./(?!\\.\\./)', message: 'What two places need is an act or a record.' }] : [];
    return {
      files: [`packages/server/src/${floor}/**/*.ts`],
      ignores: ['**/*.test.ts'],
      rules: { 'no-restricted-imports': ['error', { patterns: [...arrowsOf('server'), ...upwards, ...beside] }] },
    };
  }),
];

export default defineConfig(
  globalIgnores(['**/dist/', '**/.angular/', 'state/', 'docs/']),
  { files: ['**/*.mjs'], extends: [eslint.configs.recommended], languageOptions: { globals: { ...globals.node } } },
  {
    files: ['packages/**/*.ts', 'tests/**/*.ts', 'demo/**/*.ts', 'bench/**/*.ts', 'scripts/**/*.ts'],
    extends: [eslint.configs.recommended, tseslint.configs.strictTypeChecked, tseslint.configs.stylisticTypeChecked],
    languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } },
    rules: {
      '@typescript-eslint/restrict-template-expressions': ['error', { allowNumber: true }],
      '@typescript-eslint/no-non-null-assertion': 'off',
      '@typescript-eslint/no-unused-vars': ['error', { varsIgnorePattern: '^_', argsIgnorePattern: '^_', ignoreRestSiblings: true }],
      '@typescript-eslint/require-await': 'off',
      '@typescript-eslint/no-confusing-void-expression': ['error', { ignoreArrowShorthand: true }],
      '@typescript-eslint/consistent-type-definitions': 'off',
      '@typescript-eslint/no-unnecessary-condition': 'off',
      '@typescript-eslint/dot-notation': 'off',
      // sums and counts arrive from the database driver as text where they could be large
      '@typescript-eslint/no-unnecessary-type-conversion': 'off',
      '@typescript-eslint/no-unnecessary-type-parameters': 'off',
      // there are no enums here
      'no-restricted-syntax': ['error', { selector: 'TSEnumDeclaration', message: 'Use a union of strings.' }],
      '@typescript-eslint/no-unsafe-enum-assignment': 'off',
      '@typescript-eslint/no-unsafe-enum-comparison': 'off',
      '@typescript-eslint/no-unsafe-class-instance-assignment': 'off',
      'no-control-regex': 'off',
      'no-misleading-character-class': 'off',
      '@typescript-eslint/no-misused-promises': ['error', { checksVoidReturn: false }],
      'max-lines': ['error', 420],
    },
  },
  {
    files: ['packages/web/**/*.ts'],
    extends: [angular.configs.tsRecommended],
    processor: angular.processInlineTemplates,
    rules: {
      '@typescript-eslint/no-extraneous-class': 'off',
      '@typescript-eslint/unbound-method': 'off',
      '@angular-eslint/component-selector': ['error', { type: 'element', prefix: 'lx', style: 'kebab-case' }],
    },
  },
  {
    files: ['packages/{net,volumes,engine,connectors,mover,server,standins}/**/*.ts', 'bench/**/*.ts'],
    rules: {
      'no-restricted-properties': [
        'error',
        { property: 'terminate', message: 'Use endThread: native modules take the process with them.' },
      ],
    },
  },
  { files: ['packages/web/**/*.html'], extends: [angular.configs.templateRecommended] },
  { files: ['tests/**/*.ts', '**/*.test.ts'], rules: { '@typescript-eslint/no-unsafe-assignment': 'off', 'max-lines': 'off' } },
  ...arrowRules,
);
