import { createHash } from 'node:crypto';
import fs from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { cloudRights, CloudService } from '@lithodex/standins';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { imageBlock, ImageMap } from '../image-map';
import { CloudClient } from './cloud-client';
import { sendImage } from './send-image';

let folder: string;
let service: CloudService;
let client: CloudClient;
const chunks = new Map<string, Buffer>();

const quota = { instances: 9, processors: 9, bytes: 1e12 };
/** Not a whole number of blocks. */
const size = 20 * imageBlock + 5000;
const blocks = Math.ceil(size / imageBlock);

beforeAll(async () => {
  folder = fs.mkdtempSync(path.join(os.tmpdir(), 'send-image-'));
  service = new CloudService({ folder });
  const endpoint = await service.start();
  const region = { name: 'north', place: 'Fjord', networks: [], groups: [], quota };
  const clients = [{ id: 'harbour', secret: 'gulls', secretEnds: null, rights: cloudRights }];
  const classes = [{ name: 'usual', perGBMonth: 1, regions: ['north'] }];
  service.cloud.describe({ currency: 'EUR', addressPerMonth: 0, regions: [region], sizes: [], classes, clients });
  client = new CloudClient({ endpoint, opener: { by: 'password', account: 'harbour', password: 'gulls' } });
});
afterAll(async () => {
  await client.close();
  await service.stop();
  fs.rmSync(folder, { recursive: true });
});

/** An image whose blocks are filled with these numbers, 0 for zeros; what it holds, and the map of that. */
function imageOf(fills: readonly number[]): { readonly bytes: Buffer; readonly map: ImageMap } {
  const map = new ImageMap(size);
  const bytes = Buffer.alloc(size);
  for (const [block, fill] of fills.entries()) {
    if (!fill) continue;
    const data = Buffer.alloc(map.lengthOf(block), fill);
    const name = createHash('sha256').update(data).digest();
    chunks.set(name.toString('hex'), data);
    map.set(block, name);
    data.copy(bytes, block * imageBlock);
  }
  return { bytes, map };
}

const fills = fc.array(fc.integer({ min: 0, max: 4 }), { minLength: blocks, maxLength: blocks });
const makeVolume = () => client.makeVolume({ region: 'north', class: 'usual', label: 'system', size, tags: [] });
const send = (volume: string, map: ImageMap, unlike: readonly number[], stopped = () => false) =>
  sendImage({
    client,
    volume,
    name: `${volume}.qcow2`,
    map,
    blocks: unlike,
    readChunk: (name) => Promise.resolve(chunks.get(name.toString('hex'))!),
    onBytes: () => undefined,
    stopped,
  });
const held = (volume: string) => fs.readFileSync(service.cloud.volumes.fileOf(volume));

describe('an image that is sent into a cloud', () => {
  it('makes a volume what the point holds, whole or over what an earlier point left there', async () => {
    await fc.assert(
      fc.asyncProperty(fills, fills, async (first, second) => {
        const { id } = await makeVolume();
        const [before, after] = [imageOf(first), imageOf(second)];
        await send(id, before.map, before.map.blocksUnlike(undefined));
        expect(held(id).equals(before.bytes)).toBe(true);
        const unlike = after.map.blocksUnlike(before.map);
        expect(unlike).toEqual(first.flatMap((fill, block) => (fill === second[block] ? [] : [block])));
        await send(id, after.map, unlike);
        expect(held(id).equals(after.bytes)).toBe(true);
        await client.removeVolume(id);
      }),
      { numRuns: 12 },
    );
    expect(service.cloud.imports.names()).toEqual([]);
  });

  it('sends nothing where nothing differs', async () => {
    const { id } = await makeVolume();
    const staged = service.cloud.imports.staged;
    expect(await send(id, imageOf([]).map, [])).toBe(0);
    expect(service.cloud.imports.staged).toBe(staged);
  });

  it('leaves nothing staged when it is stopped, or when the volume is not what was sent', async () => {
    const { id } = await makeVolume();
    const { map } = imageOf([1, 2, 3]);
    await expect(send(id, map, map.blocksUnlike(undefined), () => true)).rejects.toMatchObject({ code: 'STOPPED' });
    service.cloud.switches = { ...service.cloud.switches, importWrong: true };
    await expect(send(id, map, map.blocksUnlike(undefined))).rejects.toMatchObject({ code: 'NOT_AS_STORED' });
    service.cloud.switches = { ...service.cloud.switches, importWrong: false };
    expect(service.cloud.imports.names()).toEqual([]);
  });
});

describe('a cloud', () => {
  it('is signed in to again when the session has ended', async () => {
    await client.account();
    service.forgetSessions();
    expect(await client.account()).toMatchObject({ client: 'harbour' });
  });

  it('says why it refuses, and is told apart from what is no cloud', async () => {
    await expect(client.instance('n-none')).rejects.toMatchObject({ code: 'MACHINE_GONE' });
    const stranger = new CloudClient({
      endpoint: service.address,
      opener: { by: 'password', account: 'harbour', password: 'terns' },
    });
    await expect(stranger.account()).rejects.toMatchObject({ code: 'SIGN_IN_REFUSED' });
    const certificate = { by: 'certificate' as const, certificate: '', key: '' };
    await expect(new CloudClient({ endpoint: service.address, opener: certificate }).account()).rejects.toMatchObject({
      code: 'SIGN_IN_REFUSED',
    });
  });
});
