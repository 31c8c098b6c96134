import type { ShareRef } from '@lithodex/kinds';
import type { Share } from './share';
import { SmbShare } from './smb-share';
import { WebdavShare } from './webdav-share';

export function openShare({ address, opener }: ShareRef): Share {
  return address.kind === 'smb' ? new SmbShare(address, opener) : new WebdavShare(address, opener);
}

/** Whether a share lets us in and lets us write; throws SourceError where not. */
export async function testShare(ref: ShareRef): Promise<void> {
  const share = openShare(ref);
  const name = `lithodex-trial-${Date.now()}`;
  await share.makeFolder(name);
  await share.removeFolder(name);
}
