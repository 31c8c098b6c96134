import fs from 'node:fs';
import path from 'node:path';
import type { ClusterService } from '@lithodex/standins';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { violationsInBothThemes } from '../support/accessible';
import { Visitor } from '../support/browser';
import { askRoute, clusterToken, described, fillFolder, startCluster, tideBoard } from '../support/clusters';
import { Harness, passwords, type Client } from '../support/harness';

let h: Harness;
let eva: Visitor;
let admin: Client;
let jetty: ClusterService;
let skerry: ClusterService;
let targetId: string;
const host = 'tides.jetty.example';
const idOf = async (name: string) => (await admin.call('estate', { query: {} })).workloads.find((w) => w.name === name)!.id;
const done = () => eva.page.waitForFunction(() => /done|remarks|failed/.test(document.querySelector('.state')?.textContent ?? ''));

beforeAll(async () => {
  h = await Harness.start({ webDir: path.resolve('packages/web/dist/browser') });
  admin = await h.withToken('administrator');
  ({ targetId } = await h.connect(admin));
  jetty = await startCluster(`${h.folder}/jetty`, 'jetty-1', ['basin-fast']);
  skerry = await startCluster(`${h.folder}/skerry`, 'skerry-1', ['rock-block']);
  jetty.put(...tideBoard('basin-fast', host));
  fillFolder(jetty.placeOfClaim('tide-board', 'tide-data'));
  eva = await Visitor.arrive(h.base);
  await eva.signIn('administrator', passwords.administrator);
}, 60_000);
afterAll(async () => {
  await eva.leave();
  await jetty.stop();
  await skerry.stop();
  await h.stop();
});

async function connect(name: string, cluster: ClusterService): Promise<void> {
  await eva.open('/estate/clusters/new');
  await eva.sees('What has to be prepared');
  for (const [field, value] of [
    ['name', name],
    ['endpoint', cluster.url],
    ['token', clusterToken],
    ['domains', `${name}.example`],
  ] as const)
    await eva.page.type(`[name=${field}]`, value);
}

describe('an application, in the browser', () => {
  it('is found by connecting its cluster, tested right by right', async () => {
    await connect('jetty', jetty);
    await eva.press('Test the connection');
    await eva.sees('the account may do what is needed');
    await eva.sees('Volumes of rough can not be frozen');
    expect(await violationsInBothThemes(eva)).toEqual([]);
    await eva.press('Connect');
    await eva.page.waitForFunction(() => location.pathname === '/estate');
    await eva.sees('tide-board');
    await connect('skerry', skerry);
    await eva.press('Define rewrites');
    await eva.type('Name of rewrites 1', 'to the lighthouse');
    await eva.type('What stands there, rewrite 1', 'tides.jetty.example');
    await eva.type('Becomes, rewrite 1', 'tides.skerry.example');
    await eva.press('add a rewrite');
    await eva.type('Field, rewrite 2', 'spec.storageClassName');
    await eva.type('What stands there, rewrite 2', 'basin-fast');
    await eva.type('Becomes, rewrite 2', 'rock-block');
    await eva.press('Connect');
    await eva.page.waitForFunction(() => location.pathname === '/estate');
  });

  it('shows its order and what still leads back, is rewritten once more, and is reached at the other cluster', async () => {
    const id = await idOf('tide-board');
    await admin.ended((await admin.call('protectOnce', { id, body: { targetId } })).runId);
    await eva.open(`/estate/${id}`);
    await eva.press('Bring it to another cluster');
    await eva.sees('Volumes');
    await eva.sees('secret mail-relay names jetty.example');
    expect(await violationsInBothThemes(eva)).toEqual([]);
    await eva.press('Rewrite it too');
    await eva.sees('none');
    await eva.sees('(sealed)');
    expect(await eva.page.$$eval('lx-rewrite-rows tbody tr', (rows) => rows.length)).toBe(3);
    await eva.type('Why it is brought back', 'jetty is flooded');
    await eva.press('Start restore');
    await eva.page.waitForFunction(() => location.pathname.startsWith('/runs/'));
    await done();
    await eva.sees('done');
    expect(await askRoute(skerry, 'tides.skerry.example', '/index.html')).toEqual({ status: 200, text: '<h1>Tides</h1>' });
    expect(described(skerry.placeOfClaim('tide-board', 'tide-data'))).toBe(described(jetty.placeOfClaim('tide-board', 'tide-data')));
  });

  it('is switched to a volume beside the one in use, back, and rid of the other', async () => {
    const id = await idOf('tide-board');
    fs.writeFileSync(`${jetty.placeOfClaim('tide-board', 'tide-data')}/index.html`, 'flooded');
    const point = (await admin.call('workload', { id })).pointList.at(-1)!;
    const { runId } = await admin.call('startRestore', {
      body: {
        picks: [{ pointId: point.id, path: 'volumes/tide-data' }],
        destination: { to: 'original' },
        rule: 'replace',
        reason: 'flooded',
      },
    });
    await admin.ended(runId);
    const jettyId = (await admin.call('listSystems')).rows.find((s) => s.name === 'jetty')!.id;
    await admin.call('readSystem', { id: jettyId });
    expect((await askRoute(jetty, host, '/index.html')).text).toBe('<h1>Tides</h1>');
    await eva.open('/estate');
    await eva.sees('tide-board');
    await eva.page.click('[aria-label="About tide-board"]');
    await eva.sees('took its place');
    await eva.press('switch back to it');
    await eva.page.waitForFunction(() => document.body.innerText.replaceAll(/\s+/g, ' ').includes('since tide-data took its place'));
    expect((await askRoute(jetty, host, '/index.html')).text).toBe('flooded');
    await eva.press('remove it …');
    await eva.sees('It is gone for good then.');
    await eva.press('Remove it');
    await eva.page.waitForFunction(() => !document.body.innerText.includes('took its place'));
    expect(
      jetty.objects
        .of('PersistentVolumeClaim', 'tide-board')
        .map((c) => c.metadata.name)
        .sort(),
    ).toEqual(['tide-data', 'tide-disk']);
  });
});
