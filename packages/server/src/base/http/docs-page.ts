import { apiErrors, routes, type Route } from '@lithodex/contract';
import { z } from 'zod';

const escape = (text: string) => text.replace(/[&<>"']/g, (c) => `&#${c.charCodeAt(0)};`);

function schemaBlock(title: string, schema: z.ZodType | undefined, io: 'input' | 'output'): string {
  if (!schema) return '';
  return `<details><summary>${title}</summary><pre>${escape(JSON.stringify(z.toJSONSchema(schema, { io, unrepresentable: 'any' }), null, 2))}</pre></details>`;
}

const accessWords = { anyone: 'anyone', mover: 'movers', asker: 'who signed in for themselves only' } as const;

function routeBlock(name: string, r: Route): string {
  const access = typeof r.access === 'string' ? accessWords[r.access] : r.access.join(', ');
  return `<section id="${name}"><h3><code>${r.method.toUpperCase()} /api/v1${escape(r.path)}</code></h3><p>${escape(r.summary)}. <small>For: ${access}.</small></p>
${schemaBlock('Query', r.query, 'input')}${schemaBlock('Body', r.body, 'input')}${schemaBlock('Answer', r.response, 'output')}</section>`;
}

/** The API as a page to read, made from the route table. */
export function docsPage(nonce: string): string {
  const list = Object.entries<Route>(routes);
  const errors = Object.entries(apiErrors).map(
    ([code, [status, text]]) => `<tr><td><code>${code}</code></td><td>${status}</td><td>${escape(text)}</td></tr>`,
  );
  return `<!doctype html><html lang="en"><meta charset="utf-8"><title>Lithodex API</title>
<style nonce="${nonce}">body{font:15px/1.5 system-ui,sans-serif;max-width:60rem;margin:2rem auto;padding:0 1rem;color:#1f262b;background:#f5f3ee}section{background:#fff;border:1px solid #dcd6ca;border-radius:10px;padding:.6rem 1rem;margin:.7rem 0}h3{margin:0;font-size:1rem}p{margin:.2rem 0}pre{overflow:auto;font-size:12px}td{padding:.2rem .8rem .2rem 0;vertical-align:top}</style>
<h1>Lithodex API</h1>
<p>Sign in for a session cookie and send <code>x-lithodex-csrf</code> with every change, or send <code>Authorization: Bearer TOKEN</code>. Paths of items are escaped text: bytes that are not plain UTF-8 stand as %XX. Times are milliseconds since the epoch, sizes bytes. Lists take <code>cursor</code>, <code>limit</code>, <code>sort</code> and <code>q</code>. The same as <a href="/api/openapi.json">OpenAPI 3.1</a>.</p>
${list.map(([name, r]) => routeBlock(name, r)).join('\n')}
<h2>Errors</h2><p>Every error is <code>{code, message, details}</code>.</p><table>${errors.join('')}</table></html>`;
}
