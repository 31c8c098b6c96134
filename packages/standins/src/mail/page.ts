import { escapeHtml } from '../escape-html';
import type { Mail } from './mail-box';

const style =
  'body{font:14px system-ui;margin:2em;max-width:60em}pre{white-space:pre-wrap;background:#f4f4f2;padding:1em}td{padding:2px 1em 2px 0}';
const when = (at: number) => new Date(at).toISOString().slice(0, 16).replace('T', ' ');

/** All mails that arrived, as a person sees them. */
export function mailListPage(mails: readonly Mail[]): string {
  const rows = mails.map(
    (m) =>
      `<tr><td>${when(m.at)}</td><td>${escapeHtml(m.to.join(', '))}</td><td><a href="/mails/${m.id}">${escapeHtml(m.subject)}</a></td></tr>`,
  );
  return `<!doctype html><title>Mail sink stand-in</title><style>${style}</style><h1>Mail sink stand-in</h1><p>Takes every mail for every address, and shows it here. Nothing goes further.</p><table>${rows.join('') || '<tr><td>No mail has come.</td></tr>'}</table>`;
}

/** One mail. */
export function mailPage({ at, from, to, subject, text, attachments }: Mail): string {
  const files = attachments.map((a) => `<h2>${escapeHtml(a.name)}</h2><pre>${escapeHtml(a.text)}</pre>`);
  return `<!doctype html><title>Mail sink stand-in</title><style>${style}</style><p><a href="/">all mails</a></p><h1>${escapeHtml(subject)}</h1><p>${when(at)}, from ${escapeHtml(from)} to ${escapeHtml(to.join(', '))}</p><pre>${escapeHtml(text)}</pre>${files.join('')}`;
}
