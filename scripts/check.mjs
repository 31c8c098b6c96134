// Types of all code, and lint of what was changed lately: of all with "--all", and where the rules themselves were. What was changed before was linted then.
import { execFileSync } from 'node:child_process';
import { ESLint } from 'eslint';
import ts from 'typescript';

const folders = ['packages', 'tests', 'demo', 'bench', 'scripts'];
/** So many commits back, what was changed counts as lately. */
const lately = 40;
const rules = 'eslint.config.mjs';

function programOf(file) {
  const host = {
    ...ts.sys,
    onUnRecoverableConfigFileDiagnostic(problem) {
      throw new Error(ts.flattenDiagnosticMessageText(problem.messageText, '\n'));
    },
  };
  const { fileNames, options } = ts.getParsedCommandLineOfConfigFile(file, { noEmit: true }, host);
  return ts.createProgram(fileNames, options);
}

/** Files that were changed lately, or that are not committed yet; undefined for all, also where nobody knows. */
function changedLately() {
  const git = (...args) => execFileSync('git', args, { encoding: 'utf8', stdio: ['ignore', 'pipe', 'ignore'], maxBuffer: 1e8 }).split('\n');
  try {
    const known = git('rev-list', `--max-count=${lately + 1}`, 'HEAD').filter(Boolean);
    if (known.length <= lately) return undefined;
    const files = [...git('diff', '--name-only', known.at(-1)), ...git('ls-files', '--others', '--exclude-standard')];
    return files.includes(rules) ? undefined : files.filter((f) => /\.(ts|mjs|html)$/.test(f) && ts.sys.fileExists(f));
  } catch {
    return undefined;
  }
}

const where = { getCanonicalFileName: (name) => name, getCurrentDirectory: () => process.cwd(), getNewLine: () => '\n' };
const own = programOf('tsconfig.json');
const problems = ts.getPreEmitDiagnostics(own);
if (problems.length) process.stdout.write(ts.formatDiagnosticsWithColorAndContext(problems, where));

const files = (process.argv.includes('--all') ? undefined : changedLately()) ?? ['.'];
// what the compiler found out about types is what the rules ask for; those of the web application are checked by its build, together with its templates
const programs = files.some((f) => f === '.' || f.startsWith('packages/web/')) ? [own, programOf('packages/web/tsconfig.json')] : [own];
const eslint = new ESLint({
  warnIgnored: false,
  overrideConfig: [
    {
      files: folders.map((folder) => `${folder}/**/*.ts`),
      languageOptions: { parserOptions: { projectService: false, programs } },
    },
  ],
});
const results = files.length ? await eslint.lintFiles(files) : [];
process.stdout.write(await (await eslint.loadFormatter('stylish')).format(results));
if (problems.length || results.some((r) => r.errorCount || r.warningCount)) process.exitCode = 1;
