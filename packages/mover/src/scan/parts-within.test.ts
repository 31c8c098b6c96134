import { gzipSync } from 'node:zlib';
import { pack } from 'tar-stream';
import yazl from 'yazl';
import { describe, expect, it } from 'vitest';
import { allWithin, holdsParts, looksLikeMail, NotOpened, partsWithin, Room } from './parts-within';

async function gathered(stream: unknown): Promise<Buffer> {
  const pieces: Buffer[] = [];
  for await (const piece of stream as AsyncIterable<Buffer>) pieces.push(piece);
  return Buffer.concat(pieces);
}

function zipOf(files: Readonly<Record<string, string | Buffer>>): Promise<Buffer> {
  const zip = new yazl.ZipFile();
  for (const [name, data] of Object.entries(files)) zip.addBuffer(Buffer.from(data), name);
  zip.addEmptyDirectory('empty');
  zip.end();
  return gathered(zip.outputStream);
}

function tarOf(files: Readonly<Record<string, string | Buffer>>): Promise<Buffer> {
  const tar = pack();
  tar.entry({ name: 'folder', type: 'directory' });
  for (const [name, data] of Object.entries(files)) tar.entry({ name }, Buffer.from(data));
  tar.entry({ name: 'link', type: 'symlink', linkname: '/etc/passwd' });
  tar.finalize();
  return gathered(tar);
}

const mail = [
  'From: Mira Holt <mira@kelmar.example>',
  'Subject: plans',
  'MIME-Version: 1.0',
  'Content-Type: multipart/mixed; boundary=cut',
  '',
  '--cut',
  'Content-Type: text/plain; charset=utf-8',
  'Content-Transfer-Encoding: quoted-printable',
  '',
  'the pl=C3=A5ns',
  '--cut',
  'Content-Type: application/octet-stream',
  'Content-Disposition: attachment; filename="a.bin"',
  'Content-Transfer-Encoding: base64',
  '',
  Buffer.from('attached').toString('base64'),
  '--cut--',
  '',
].join('\r\n');

async function listed(data: Buffer): Promise<Record<string, string>> {
  const parts: Record<string, string> = {};
  for await (const { within, content } of allWithin(data)) parts[within] = content.toString();
  delete parts[''];
  return parts;
}

describe('what is inside', () => {
  it('is told from what holds nothing by its first bytes', async () => {
    for (const data of [await zipOf({ a: 'x' }), await tarOf({ a: 'x' }), gzipSync('x'), Buffer.from(mail)])
      expect(holdsParts(data)).toBe(true);
    for (const text of ['', 'PK', 'From here to there', 'Subject: no message, a note\nwith: two lines', '\x1f'])
      expect(holdsParts(Buffer.from(text))).toBe(false);
    expect(looksLikeMail(Buffer.from(mail))).toBe(true);
  });

  it('is read of zip, tar and gzip, without folders and links', async () => {
    expect(await listed(await zipOf({ 'a/b.txt': 'one', c: 'two' }))).toEqual({ 'a/b.txt': 'one', c: 'two' });
    expect(await listed(await tarOf({ 'a/b.txt': 'one', c: 'two' }))).toEqual({ 'a/b.txt': 'one', c: 'two' });
    expect(await listed(gzipSync('three'))).toEqual({ unpacked: 'three' });
  });

  it('is read of messages as one reads them', async () => {
    const parts = await listed(Buffer.from(mail));
    expect(parts['text']?.trim()).toBe('the plåns');
    expect(parts['a.bin']).toBe('attached');
  });

  it('is read of what is inside it, each with its way there', async () => {
    const data = await tarOf({ 'in.zip': await zipOf({ 'deep.gz': gzipSync('found') }) });
    expect(Object.keys(await listed(data))).toEqual(['in.zip', 'in.zip → deep.gz', 'in.zip → deep.gz → unpacked']);
  });

  it('ends where there is no more room, however it is packed', async () => {
    const bomb = await zipOf({ a: Buffer.alloc(600_000), b: Buffer.alloc(600_000) });
    const read = async (room: Room) => {
      let bytes = 0;
      for await (const part of partsWithin(bomb, room)) bytes += part.data.length;
      return bytes;
    };
    expect(await read(new Room())).toBe(1_200_000);
    await expect(read(new Room(1_000_000))).rejects.toThrow(NotOpened);
    await expect(read(new Room(9_000_000, 1))).rejects.toThrow('more than what is unpacked');
  });

  it('is told of as trouble where it is cut or closed, once for each reason', async () => {
    const whole = await zipOf({ a: 'one' });
    const closed = Buffer.from(whole);
    closed.writeUInt16LE(1, closed.indexOf(Buffer.from([0x50, 0x4b, 1, 2])) + 8);
    const troubles = async (data: Buffer) => {
      const all: string[] = [];
      for await (const part of allWithin(data, (why) => void all.push(why))) expect(part.content.length).toBeGreaterThan(0);
      return all;
    };
    expect(await troubles(whole.subarray(0, whole.length - 30))).toEqual(['it is damaged']);
    expect(await troubles(closed)).toEqual(['it asks for a password']);
    expect(await troubles((await tarOf({ a: 'x'.repeat(5000) })).subarray(0, 2000))).toEqual(['it is damaged']);
    expect(await troubles(gzipSync('x'.repeat(5000)).subarray(0, 20))).toEqual(['it is damaged']);
    expect(await troubles(whole)).toEqual([]);
  });
});
