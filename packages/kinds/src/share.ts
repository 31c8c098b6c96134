import { z } from 'zod';
import { Id } from './values';

export const Host = z
  .string()
  .trim()
  .min(1)
  .max(253)
  .regex(/^[\w.:[\]-]+$/, 'a name or an address');

export const ShareName = z
  .string()
  .trim()
  .min(1)
  .max(80)
  .regex(/^[^/\\\0-\x1f"]+$/, 'the name of a share');

/** A share in the network that files can be brought to: over SMB, or WebDAV. */
export const ShareAddress = z.discriminatedUnion('kind', [
  z.object({
    kind: z.literal('smb'),
    host: Host,
    port: z.int().min(1).max(65_535).default(445),
    share: ShareName,
  }),
  z.object({ kind: z.literal('webdav'), url: z.url({ protocol: /^https?$/ }).max(300) }),
]);
export type ShareAddress = z.infer<typeof ShareAddress>;

/** What opens a share: goes to movers, never to a browser. One line each, as its program reads them from a file. */
export const OneLine = z
  .string()
  .max(400)
  .regex(/^[^\r\n\0]*$/, 'one line');
export const ShareOpener = z.object({ account: OneLine.max(200), password: OneLine });
export type ShareOpener = z.infer<typeof ShareOpener>;

export const ShareRef = z.object({ address: ShareAddress, opener: ShareOpener });
export type ShareRef = z.infer<typeof ShareRef>;

/** A folder of a share, its parts in between `/`; '' for the share itself. */
export const ShareFolder = z
  .string()
  .trim()
  .max(1000)
  .refine(
    (text) => text === '' || text.split('/').every((part) => part !== '' && !/^\.+$/.test(part) && !/[\\:*?"<>|;\0-\x1f]/.test(part)),
    {
      message: 'folders with / in between, without \\ : * ? " < > | ;',
    },
  );

/** Files to a share, into a folder of their own. */
export const SharePlace = z.object({ to: z.literal('share'), shareId: Id, folder: ShareFolder.default('') });
