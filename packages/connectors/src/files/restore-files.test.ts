import fs from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import type { TreeEntry } from '@lithodex/engine';
import { afterAll, describe, expect, it } from 'vitest';
import type { RestoreContext, RestoredItem, RestorePick } from '../connector';
import { HostLimits, usualBounds } from './host-limits';
import { restoreFiles } from './restore-files';

const host = fs.mkdtempSync(path.join(os.tmpdir(), 'lithodex-in-place-'));
fs.mkdirSync(`${host}/etc/cron.d`, { recursive: true });
afterAll(() => {
  fs.rmSync(host, { recursive: true });
});

const link: TreeEntry = {
  name: 'door',
  kind: 'link',
  mode: 0o777,
  uid: 0,
  gid: 0,
  mtimeNs: 0n,
  ctimeNs: 0n,
  inode: 0,
  size: 0,
  linkTarget: 'away',
};
/** An item of a point of all of a host, which stands in a folder here. */
const pick = (at: string, to: string, base: string) =>
  ({
    open: () => Promise.resolve({ kept: undefined, root: { workload: { path: host } } }),
    find: () => Promise.resolve({ tree: {}, entry: link, parents: [], stored: true }),
    path: at,
    to,
    base,
  }) as unknown as RestorePick;
const items: RestoredItem[] = [];
const ctx: RestoreContext = {
  taskId: 't1',
  trial: false,
  edited: undefined,
  limits: new HostLimits({ ...usualBounds([]), backOnly: [`${host}/etc`] }),
  phase: () => undefined,
  note: () => undefined,
  done: (item) => items.push(item),
  drain: () => undefined,
  moved: () => undefined,
  stopped: () => false,
};
const back = (p: RestorePick) => restoreFiles(ctx, [p], { kind: 'files', rule: 'leave', stamp: '' });

describe('a folder of the system', () => {
  it('gets back what was taken there', async () => {
    await back(pick('etc/cron.d/door', 'etc/cron.d/door', host));
    await back(pick('etc/cron.d/other', 'other', `${host}/etc/cron.d`));
    expect(fs.readdirSync(`${host}/etc/cron.d`).sort()).toEqual(['door', 'other']);
  });

  it('gets nothing that was taken elsewhere on the host', async () => {
    const cron = `${host}/etc/cron.d`;
    for (const p of [pick('home/olaf/night', 'night', cron), pick('etc/skel/night', 'night', cron)])
      await expect(back(p)).rejects.toMatchObject({ code: 'OUT_OF_BOUNDS' });
    await back(pick('home/olaf/night', 'etc/cron.d/night', host));
    expect(items.at(-1)).toMatchObject({ path: 'etc/cron.d/night', action: 'failed' });
    expect(fs.readdirSync(`${host}/etc/cron.d`)).not.toContain('night');
  });
});
