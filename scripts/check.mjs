// Types and lint of all code in one go: what the compiler found out about the types is what the rules ask for.
import { ESLint } from 'eslint';
import ts from 'typescript';

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

const where = { getCanonicalFileName: (name) => name, getCurrentDirectory: () => process.cwd(), getNewLine: () => '\n' };
const own = programOf('tsconfig.json');
const problems = ts.getPreEmitDiagnostics(own);
if (problems.length) process.stdout.write(ts.formatDiagnosticsWithColorAndContext(problems, where));

// those of the web application are checked by its build, together with its templates
const programs = [own, programOf('packages/web/tsconfig.json')];
const eslint = new ESLint({
  overrideConfig: [
    {
      files: ['packages/**/*.ts', 'tests/**/*.ts', 'demo/**/*.ts', 'bench/**/*.ts', 'scripts/**/*.ts'],
      languageOptions: { parserOptions: { projectService: false, programs } },
    },
  ],
});
const results = await eslint.lintFiles(['.']);
process.stdout.write(await (await eslint.loadFormatter('stylish')).format(results));
if (problems.length || results.some((r) => r.errorCount || r.warningCount)) process.exitCode = 1;
