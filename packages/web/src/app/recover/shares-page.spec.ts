import { describe, expect, it } from 'vitest';
import type { Share } from '@lithodex/contract';
import { open, words } from '../../test/stage';

const share: Share = {
  id: 4,
  name: 'office',
  address: { kind: 'smb', host: 'files.harbour', port: 4455, share: 'returned' },
  account: 'restorer',
};
const fill = (s: Awaited<ReturnType<typeof open>>, name: string, text: string) => s.type(`[name=${name}]`, text);

describe('shares', () => {
  it('are listed with where they are, and forgotten after it was said what that means', async () => {
    const s = await open('/recover/shares', { answers: { listShares: { rows: [share] }, removeShare: {} } });
    expect(words(s.one('tbody tr'))).toContain('office returned on files.harbour, port 4455 SMB 3, encrypted restorer');
    await s.click(s.one('[aria-label="Forget office"]'));
    expect(s.text()).toContain('What was brought there stays.');
    await s.click('Forget it');
    expect(s.api.last('removeShare')).toMatchObject({ id: 4 });
  });

  it('are kept once they were tried; a refusal is said and nothing is lost', async () => {
    const s = await open('/recover/shares', { answers: { listShares: { rows: [] } } });
    await s.click('Keep a share');
    await fill(s, 'name', 'office');
    await fill(s, 'host', 'files.harbour:4455');
    await fill(s, 'share', 'returned');
    await fill(s, 'account', 'restorer');
    await fill(s, 'password', 'secret');
    await s.click('Try and keep it');
    expect(s.api.last('addShare')).toMatchObject({
      body: {
        name: 'office',
        address: { kind: 'smb', host: 'files.harbour', port: 4455, share: 'returned' },
        opener: { account: 'restorer', password: 'secret' },
      },
    });
  });

  it('keep what opens them where it is not given again', async () => {
    const s = await open('/recover/shares', { answers: { listShares: { rows: [share] }, changeShare: {} } });
    await s.click(s.one('[aria-label="Change office"]'));
    await fill(s, 'name', 'office two');
    await s.click('Try and keep it');
    expect(s.api.last('changeShare')).toMatchObject({ id: 4, body: { name: 'office two', address: share.address, opener: null } });
  });
});
