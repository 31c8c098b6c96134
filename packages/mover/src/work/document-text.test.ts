import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { tmpdir } from 'node:os';
import { deflateRawSync } from 'node:zlib';
import fc from 'fast-check';
import yazl from 'yazl';
import { closePools, treeOf } from '@lithodex/connectors';
import { DiskFolder, Store, topEntry, type TreeEntry } from '@lithodex/engine';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { pointRequest, quietly } from '../../../../tests/support/store-kit';
import { textOfItem, textOfXml } from './document-text';
import { takePoint } from './take-point';

let base: string;
let store: Store;
let top: TreeEntry;

function zipOf(parts: Readonly<Record<string, string | Buffer>>): Promise<Buffer> {
  const zip = new yazl.ZipFile();
  for (const [name, text] of Object.entries(parts)) zip.addBuffer(Buffer.from(text), name);
  zip.end();
  const pieces: Buffer[] = [];
  return new Promise((resolve) => {
    zip.outputStream.on('data', (piece: Buffer) => pieces.push(piece)).on('end', () => resolve(Buffer.concat(pieces)));
  });
}

/** A PDF that says something, and would run something when it is opened by what lets it. */
function pdfOf(text: string): Buffer {
  const content = `BT /F1 24 Tf 72 720 Td (${text}) Tj ET`;
  const objects = [
    `<< /Type /Catalog /Pages 2 0 R /OpenAction << /S /Launch /F (touch ${base}/launched) >> /AA << /O << /S /JavaScript /JS (app.launchURL\\('http://127.0.0.1:9/'\\)) >> >> >>`,
    '<< /Type /Pages /Kids [3 0 R] /Count 1 >>',
    '<< /Type /Page /Parent 2 0 R /MediaBox [0 0 612 792] /Contents 4 0 R /Resources << /Font << /F1 5 0 R >> >> >>',
    `<< /Length ${content.length} >>\nstream\n${content}\nendstream`,
    '<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>',
  ];
  let body = '%PDF-1.4\n';
  const at = objects.map((object, i) => {
    const offset = body.length;
    body += `${i + 1} 0 obj\n${object}\nendobj\n`;
    return String(offset).padStart(10, '0');
  });
  const xref = `xref\n0 6\n0000000000 65535 f \n${at.map((o) => `${o} 00000 n \n`).join('')}`;
  return Buffer.from(`${body}${xref}trailer\n<< /Size 6 /Root 1 0 R >>\nstartxref\n${body.length}\n%%EOF\n`, 'latin1');
}

beforeAll(async () => {
  base = temporaryFolder('documents');
  fs.mkdirSync(`${base}/store`);
  fs.mkdirSync(`${base}/source`);
  const put = (name: string, data: Buffer) => fs.writeFileSync(`${base}/source/${name}`, data);
  const word = '<w:document><w:p><w:t>Berth 4 &amp; 5</w:t></w:p><w:p><w:t>moored &#8211; north</w:t></w:p></w:document>';
  put('letter.docx', await zipOf({ 'word/document.xml': word, 'word/vbaProject.bin': randomBytes(100) }));
  put('letter.odt', await zipOf({ mimetype: 'application/vnd.oasis.opendocument.text', 'content.xml': '<text:p>tide table</text:p>' }));
  put('table.xlsx', await zipOf({ 'xl/sharedStrings.xml': '<sst><si><t>crane</t></si><si><t>pilot</t></si></sst>' }));
  put('slides.pptx', await zipOf({ 'ppt/slides/slide10.xml': '<a:p>last</a:p>', 'ppt/slides/slide2.xml': '<a:p>first</a:p>' }));
  put('entities.docx', await zipOf({ 'word/document.xml': '<!DOCTYPE x [<!ENTITY e SYSTEM "file:///etc/passwd">]><w:p>&e;</w:p>' }));
  put('bomb.docx', await zipOf({ 'word/document.xml': Buffer.alloc(40 << 20) }));
  put('lies.docx', lying());
  put('archive.zip', await zipOf({ 'readme.txt': 'no document' }));
  put('broken.docx', Buffer.concat([Buffer.from('PK\x03\x04'), randomBytes(500)]));
  put('hostile.pdf', pdfOf('moored at the north quay'));
  put('broken.pdf', Buffer.concat([Buffer.from('%PDF-1.7\n'), randomBytes(5000)]));
  put('page.html', Buffer.from('<script>fetch("//127.0.0.1:9")</script>'));
  store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
  top = topEntry((await takePoint(store, pointRequest(`${base}/source`, 't1', null), quietly)).root);
});
afterAll(async () => {
  await closePools();
  fs.rmSync(base, { recursive: true, force: true });
});

/** An archive that says a part is small, and is not. */
function lying(): Buffer {
  const name = Buffer.from('word/document.xml');
  const data = deflateRawSync(Buffer.alloc(30 << 20, 'x'));
  const local = Buffer.alloc(30);
  local.writeUInt32LE(0x04034b50, 0);
  local.writeUInt16LE(8, 8);
  local.writeUInt32LE(data.length, 18);
  local.writeUInt32LE(10, 22);
  local.writeUInt16LE(name.length, 26);
  const central = Buffer.alloc(46);
  central.writeUInt32LE(0x02014b50, 0);
  central.writeUInt16LE(8, 10);
  central.writeUInt32LE(data.length, 20);
  central.writeUInt32LE(10, 24);
  central.writeUInt16LE(name.length, 28);
  const end = Buffer.alloc(22);
  end.writeUInt32LE(0x06054b50, 0);
  end.writeUInt16LE(1, 8);
  end.writeUInt16LE(1, 10);
  end.writeUInt32LE(central.length + name.length, 12);
  end.writeUInt32LE(local.length + name.length + data.length, 16);
  return Buffer.concat([local, name, data, central, name, end]);
}

const textOf = async (name: string) => textOfItem({ tree: treeOf(store), entry: await store.trees.find(top, name) });
const left = () => fs.readdirSync(tmpdir()).filter((n) => n.startsWith(`lithodex-shown-${process.pid}`));

describe('the text of a document', () => {
  it('is that of office formats, one paragraph a line', async () => {
    expect(await textOf('letter.docx')).toEqual({ text: 'Berth 4 & 5\nmoored – north', of: 'text document', why: '' });
    expect(await textOf('letter.odt')).toMatchObject({ text: 'tide table', of: 'document' });
    expect(await textOf('table.xlsx')).toMatchObject({ text: 'crane\npilot', of: 'spreadsheet' });
    expect((await textOf('slides.pptx')).text).toMatch(/^first\s+last$/);
    expect(left()).toEqual([]);
  });

  it('is that of a PDF, and nothing of it runs', async () => {
    expect(await textOf('hostile.pdf')).toEqual({ text: 'moored at the north quay', of: 'PDF', why: '' });
    expect(fs.existsSync(`${base}/launched`)).toBe(false);
  });

  it('is refused where it is damaged, too large inside, or none; what a document defines is not followed', async () => {
    for (const name of ['broken.pdf', 'broken.docx', 'bomb.docx', 'lies.docx', 'archive.zip', 'page.html'])
      expect(await textOf(name), name).toMatchObject({ text: null, why: expect.stringMatching(/\w/) });
    expect((await textOf('entities.docx')).text).not.toContain('root:');
    expect(left()).toEqual([]);
  });

  it('is found in any XML without a tag left, in the time its length takes', () => {
    fc.assert(
      fc.property(fc.array(fc.constantFrom('<', '>', '&', ';', '<w:p>', '</w:p>', '&#x', '&#60;', 'a', '<w:tab ', '\n')), (parts) => {
        expect(textOfXml(parts.join('')).length).toBeLessThanOrEqual(parts.join('').length);
      }),
    );
    expect(textOfXml('<'.repeat(200_000)).length).toBe(200_000);
    expect(textOfXml('&#1114112;&#xD800;&unknown;')).toBe('&#1114112;&#xD800;&unknown;');
  });
});
