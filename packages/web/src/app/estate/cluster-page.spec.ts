import { describe, expect, it } from 'vitest';
import { open, words } from '../../test/stage';

const tested = {
  ok: true,
  message: 'The cluster answers, in version 1.31.0; not everything is allowed.',
  needs: [
    { right: 'list secrets', neededFor: 'to back them up, sealed', missing: true },
    { right: 'create volumesnapshots', neededFor: 'to freeze volumes', missing: false },
  ],
  remarks: ['', 'Volumes of rough can not be frozen: they are read while they are used.'],
  credentialEnds: null,
  found: 2,
};

describe('the connection to a cluster', () => {
  it('is tested right by right, gets rewrites, and is saved', async () => {
    const answers = { listSystems: { rows: [] }, testSystem: tested, addSystem: { id: 9, workloads: [3, 4] } };
    const s = await open('/estate/clusters/new', { answers });
    expect(words(s.one('aside'))).toContain('they are sealed in the store, and shown to nobody');
    await s.type('input[name=name]', 'skerry');
    await s.type('input[name=endpoint]', 'https://skerry.example:6443');
    await s.type('input[name=token]', 'gulls');
    await s.type('textarea[name=domains]', 'skerry.example');
    await s.click('Test the connection');
    expect(words(s.one('aside'))).toContain('list secrets to back them up, sealed');
    expect(words(s.one('aside'))).toContain('rough can not be frozen');
    await s.click('Define rewrites');
    await s.type('input[aria-label="Name of rewrites 1"]', 'from jetty');
    await s.type('input[aria-label="What stands there, rewrite 1"]', 'jetty.example');
    await s.type('input[aria-label="Becomes, rewrite 1"]', 'skerry.example');
    await s.click('Connect');
    expect(s.api.last('addSystem')?.body).toMatchObject({
      name: 'skerry',
      secret: 'gulls',
      address: {
        kind: 'application',
        endpoint: 'https://skerry.example:6443',
        domains: ['skerry.example'],
        rewrites: [{ name: 'from jetty', rewrites: [{ kind: '', path: '', from: 'jetty.example', to: 'skerry.example' }] }],
      },
    });
    expect(s.url()).toBe('/estate');
  });
});
