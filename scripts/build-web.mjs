// Builds the web application into packages/web/dist.
import { cpSync, mkdirSync, readFileSync } from 'node:fs';
import path from 'node:path';
import { Architect } from '@angular-devkit/architect';
import { WorkspaceNodeModulesArchitectHost } from '@angular-devkit/architect/node/index.js';
import { schema, workspaces } from '@angular-devkit/core';
import { createConsoleLogger, NodeJsSyncHost } from '@angular-devkit/core/node/index.js';

const project = path.resolve(import.meta.dirname, '..');
const root = path.join(project, 'packages/web');

/** Whether the builder of the framework has built it. */
async function built() {
  const host = workspaces.createWorkspaceHost(new NodeJsSyncHost());
  const { workspace } = await workspaces.readWorkspace(path.join(root, 'angular.json'), host);
  const registry = new schema.CoreSchemaRegistry();
  registry.addPostTransform(schema.transforms.addUndefinedDefaults);
  process.chdir(root);
  const architect = new Architect(new WorkspaceNodeModulesArchitectHost(workspace, root), registry);
  const logger = createConsoleLogger(false, process.stdout, process.stderr);
  const run = await architect.scheduleTarget({ project: 'web', target: 'build', configuration: 'production' }, undefined, { logger });
  const { success } = await run.lastOutput;
  await run.stop();
  return success;
}

/** The chart library is served as it comes: to bundle what is minified already would take longer than all the rest. */
function addCharts() {
  const from = path.join(project, 'node_modules/plotly.js-cartesian-dist-min');
  const { version } = JSON.parse(readFileSync(path.join(from, 'package.json'), 'utf8'));
  const to = path.join(root, `dist/browser/plotly-${version}`);
  mkdirSync(to);
  cpSync(path.join(from, 'plotly-cartesian.min.js'), path.join(to, 'plotly-cartesian.min.js'));
}

if (!(await built())) process.exit(1);
addCharts();
process.exit(0);
