import type { AccountDescription, InsideAccount, MachineDescription, PlatformDescription } from './description';
import { buildMachine, letGuestWrite } from './guests';
import type { Platform } from './platform';
import { PlatformError } from './platform-error';
import type { SignIn } from './sign-in';
import type { PlatformSwitches } from './switches';

interface FileBody {
  readonly path: string;
  /** base64. */
  readonly content: string;
}

const decoded = (files: readonly FileBody[]) => files.map((f) => ({ path: f.path, content: Buffer.from(f.content, 'base64') }));

/** What people do who run the platform: everything that no program is allowed to. Bodies are trusted: only tests and the demonstration send them. */
export async function actOfPeople(platform: Platform, signIn: SignIn, act: string, body: unknown): Promise<unknown> {
  switch (act) {
    case 'describe': {
      const parts = body as PlatformDescription;
      platform.describe(parts);
      signIn.setAccounts(parts.accounts);
      return {};
    }
    case 'build': {
      type Body = MachineDescription & { files: Record<string, FileBody[]>; images?: Record<string, string> };
      const { files, images, ...machine } = body as Body;
      const content = Object.fromEntries(Object.entries(files).map(([label, list]) => [label, decoded(list)]));
      const packed = Object.fromEntries(Object.entries(images ?? {}).map(([label, image]) => [label, Buffer.from(image, 'base64')]));
      return { id: (await buildMachine(platform, machine, content, packed)).id };
    }
    case 'work': {
      const { name, disk, files } = body as { name: string; disk: string; files: FileBody[] };
      await letGuestWrite(platform, name, disk, decoded(files));
      return {};
    }
    case 'change': {
      const { name, changes } = body as { name: string; changes: Parameters<Platform['change']>[1] };
      platform.change(platform.named(name).id, changes);
      return {};
    }
    case 'inside': {
      const { name, accounts } = body as { name: string; accounts: InsideAccount[] };
      platform.setInside(platform.named(name).id, accounts);
      return {};
    }
    case 'move-disk': {
      const { name, disk, storage } = body as { name: string; disk: string; storage: string };
      const machine = platform.named(name);
      platform.moveDisk(machine.id, machine.disks.find((d) => d.label === disk)!.id, storage);
      return {};
    }
    case 'remove': {
      const machine = platform.named((body as { name: string }).name);
      platform.change(machine.id, { running: false });
      platform.remove(machine.id);
      return {};
    }
    case 'account': {
      const account = body as AccountDescription;
      const accounts = platform.description.accounts.map((a) => (a.name === account.name ? account : a));
      platform.describe({ ...platform.description, accounts });
      signIn.setAccount(account);
      return {};
    }
    case 'switches':
      platform.switches = { ...platform.switches, ...(body as Partial<PlatformSwitches>) };
      return {};
    default:
      throw new PlatformError('NOT_FOUND', 'nothing is known by this address');
  }
}
