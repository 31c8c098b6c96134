import { escapeHtml } from '../escape-html';
import type { Platform } from './platform';

/** What the platform holds, for people. */
export function platformPage(platform: Platform): string {
  const { clusters, storages, machines } = platform.inventory();
  const counts = (id: string, disk: string) => {
    const { read, written } = platform.diskOf(id, disk);
    return `${(read / 1e6).toFixed(1)} MB read, ${(written / 1e6).toFixed(1)} MB written`;
  };
  const machineRows = machines.map((m) => {
    const disks = m.disks.map(
      (d) => `${escapeHtml(d.label)} on ${escapeHtml(d.storage)}, ${(d.size / 1e9).toFixed(1)} GB, ${counts(m.id, d.id)}`,
    );
    const state = m.template ? 'template' : m.running ? 'running' : 'off';
    return `<tr><td>${escapeHtml(m.name)}</td><td>${state}</td><td>${escapeHtml(m.host)}</td><td>${escapeHtml(m.folder)}</td><td>${escapeHtml(m.tags.join(', '))}</td><td>${disks.join('<br>')}</td><td>${escapeHtml(m.note)}</td></tr>`;
  });
  const clusterRows = clusters.map(
    (c) => `<tr><td>${escapeHtml(c.name)}</td><td>${escapeHtml(c.location)}</td><td>${escapeHtml(c.hosts.join(', '))}</td></tr>`,
  );
  const storageRows = storages.map(
    (s) => `<tr><td>${escapeHtml(s.name)}</td><td>${(s.used / 1e6).toFixed(1)} MB written of ${(s.capacity / 1e9).toFixed(0)} GB</td></tr>`,
  );
  return `<!doctype html><title>Platform stand-in</title><style>body{font:14px system-ui;margin:2em}td{padding:2px 1em 2px 0;vertical-align:top}</style>
<h1>Platform stand-in</h1><p>A small virtualization platform for tests and demonstrations. Its machines do not run; their disks are real. <a href="/docs">What programs may ask</a></p>
<h2>Clusters</h2><table>${clusterRows.join('')}</table><h2>Storage</h2><table>${storageRows.join('')}</table><h2>Machines</h2><table>${machineRows.join('')}</table>`;
}
