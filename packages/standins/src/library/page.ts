import { escapeHtml } from '../escape-html';
import type { Cartridge } from './cartridge-box';
import type { Library } from './library';

function row({ barcode, position, used, capacity, records, writeProtected }: Cartridge): string {
  const name = escapeHtml(barcode);
  const button = (act: string, text: string) =>
    `<form method="post" action="/${act}/${encodeURIComponent(barcode)}"><button>${text}</button></form>`;
  const where = position.at === 'shelf' ? 'on the shelf' : `${position.at} ${position.number + 1}`;
  const move = position.at === 'shelf' ? button('bring-in', 'Bring in') : button('take-out', 'Take out');
  const slide = writeProtected ? button('release', 'Allow writing') : button('protect', 'Protect');
  return `<tr><td>${name}</td><td>${where}</td><td>${records} records, ${(used / 1e6).toFixed(1)} of ${(capacity / 1e6).toFixed(0)} MB</td><td>${writeProtected ? 'write-protected' : ''}</td><td>${move}</td><td>${slide}</td></tr>`;
}

/** The library as a person sees it who stands before it. */
export function libraryPage(library: Library): string {
  const rows = [...library.box.cartridges.values()].map(row);
  return `<!doctype html><title>Library stand-in</title><style>body{font:14px system-ui;margin:2em}td{padding:2px 1em 2px 0}form{margin:0}</style><h1>Library stand-in</h1><p>A small library of cartridges for tests and demonstrations: ${library.inventory().drives.length} drives, ${library.slots} slots. The robot reaches drives and slots; the shelf is for people.</p><table>${rows.join('')}</table>`;
}
