import { HostLimits } from '@lithodex/connectors';
import fs from 'node:fs';
import path from 'node:path';
import { makeEnvelope, openEnvelope, verifyAndMend } from '@lithodex/engine';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { Stores } from './stores';

let base: string;
const target = () => ({
  id: '00000000-0000-4000-8000-000000000001',
  owner: 'a'.repeat(32),
  place: { kind: 'folder' as const, folder: `${base}/store` },
});
const stores = () => new Stores(`${base}/keys`, HostLimits.none);
const keyFile = () => path.join(base, 'keys', `${target().id}.key`);

beforeEach(async () => {
  base = temporaryFolder('new-key');
  await stores().create(target(), []);
});
afterEach(() => {
  vi.restoreAllMocks();
  fs.rmSync(base, { recursive: true, force: true });
});

describe('a new key file', () => {
  it('opens the store, the old one no more, and envelopes made before still do', async () => {
    const store = await stores().of(target());
    const envelope = makeEnvelope(store.keys, store.header, 'quay', 'a long passphrase');
    const old = fs.readFileSync(keyFile());
    await stores().newKey(target());
    expect((await stores().of(target())).keys).toEqual(store.keys);
    expect(openEnvelope(envelope, 'a long passphrase')).toEqual(store.keys);
    expect((await stores().of(target())).header.slots).toHaveLength(1);
    fs.writeFileSync(keyFile(), old);
    await expect(stores().of(target())).rejects.toMatchObject({ code: 'KEY_WRONG' });
  });

  it('stays in force when somebody who opened the store before verifies it', async () => {
    const earlier = await stores().of(target());
    await stores().newKey(target());
    const options = { copyTask: 'c', now: () => 0, stopped: () => false, expected: [], walk: true };
    expect((await verifyAndMend(earlier, [], options)).damages).toEqual([]);
    expect((await stores().of(target())).header.slots).toHaveLength(1);
  });

  it('leaves a store that opens, wherever the making of it ends', async () => {
    for (let step = 1; ; step++) {
      let steps = 0;
      const cut = (run: (...args: never[]) => unknown) =>
        ((...args: never[]) => {
          if (++steps >= step) throw Object.assign(new Error('cut'), { code: 'EIO' });
          return run(...args);
        }) as never;
      for (const call of ['writeFileSync', 'renameSync', 'fsyncSync', 'openSync'] as const) {
        const real = fs[call] as (...args: never[]) => unknown;
        vi.spyOn(fs, call).mockImplementation(cut(real.bind(fs)));
      }
      const failed = await stores()
        .newKey(target())
        .then(
          () => false,
          () => true,
        );
      vi.restoreAllMocks();
      const after = await stores().of(target());
      expect(after.header.slots.length).toBeGreaterThanOrEqual(1);
      await stores().newKey(target());
      expect((await stores().of(target())).header.slots).toHaveLength(1);
      if (!failed) {
        expect(step).toBeGreaterThan(6);
        return;
      }
    }
  });
});
