import { escapeHtml } from '../escape-html';
import type { Shelf } from './shelf';

/** A page that shows what the service holds. */
export function overview(shelf: Shelf): string {
  const buckets = [...shelf.buckets.values()].map(({ state, keys }) => {
    const versions = [...keys.values()].flat();
    const locked = versions.filter((v) => v.retention ?? v.legalHold).length;
    const bytes = versions.reduce((sum, v) => sum + v.size, 0);
    const rows = [...keys].slice(0, 500).map(([key, [newest]]) => {
      const until = newest?.retention ? `${newest.retention.mode} until ${new Date(newest.retention.until).toISOString()}` : '';
      return `<tr><td>${escapeHtml(key)}</td><td>${newest?.marker ? 'deleted' : `${newest?.size} B`}</td><td>${until}</td></tr>`;
    });
    return `<h2>${escapeHtml(state.name)}</h2><p>${keys.size} objects, ${versions.length} versions, ${locked} locked, ${bytes} B.</p><table>${rows.join('')}</table>`;
  });
  return `<!doctype html><title>Bucket stand-in</title><style>body{font:14px system-ui;margin:2em}td{padding:1px 1em 1px 0}</style><h1>Bucket stand-in</h1><p>A small object storage for tests and demonstrations.</p>${buckets.join('')}`;
}
