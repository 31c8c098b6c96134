import { HostLimits } from '@lithodex/connectors';
import fs from 'node:fs';
import type { TargetRef } from '@lithodex/contract';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { Stores } from './stores';

let base: string;
let stores: Stores;
let target: TargetRef;
const pins = () => (fs.existsSync(`${base}/store/pins`) ? fs.readdirSync(`${base}/store/pins`) : []);

beforeEach(async () => {
  base = temporaryFolder('stores');
  target = { id: 'one', owner: 'a'.repeat(32), place: { kind: 'folder', folder: `${base}/store` } };
  stores = new Stores(`${base}/keys`, HostLimits.none);
  await stores.create(target, []);
});
afterEach(() => {
  fs.rmSync(base, { recursive: true, force: true });
});

describe('the stores of a mover', () => {
  it('make a key file only its owner can read, and never a second one', async () => {
    expect(fs.statSync(`${base}/keys/one.key`).mode & 0o777).toBe(0o600);
    await expect(stores.create(target, [])).rejects.toThrow();
    expect((await new Stores(`${base}/keys`, HostLimits.none).of(target)).header.format).toBe('lithodex-store');
    await expect(new Stores(`${base}/none`, HostLimits.none).of(target)).rejects.toMatchObject({ code: 'KEY_MISSING' });
    await expect(stores.of({ id: 'one', owner: 'a'.repeat(32), place: { kind: 'folder', folder: `${base}/away` } })).rejects.toMatchObject({
      code: 'TARGET_MISSING',
    });
  });

  it('are pinned once each while they are used, and let go whatever happens', async () => {
    const during = await stores.pinned('task', [target, target], () => Promise.resolve(pins()));
    expect(during).toHaveLength(1);
    expect(during[0]).toMatch(/^task\.[0-9a-f]{12}$/);
    expect(pins()).toEqual([]);
    await expect(stores.pinned('task', [target], () => Promise.reject(new Error('broken off')))).rejects.toThrow('broken off');
    expect(pins()).toEqual([]);
  });

  it('are read without a pin where none can be written: a full or read-only disk must still give back what it holds', async () => {
    fs.rmSync(`${base}/store/pins`, { recursive: true, force: true });
    fs.writeFileSync(`${base}/store/pins`, 'in the way');
    expect(await stores.pinned('task', [target], () => Promise.resolve('restored'))).toBe('restored');
  });

  it('tell what really went wrong when the disk goes away in the middle', async () => {
    const unplug = () => {
      fs.renameSync(`${base}/store`, `${base}/unplugged`);
      return Promise.reject(new Error('what really went wrong'));
    };
    await expect(stores.pinned('task', [target], unplug)).rejects.toThrow('what really went wrong');
    expect(fs.readdirSync(`${base}/unplugged/pins`)).toHaveLength(1);
  });
});
