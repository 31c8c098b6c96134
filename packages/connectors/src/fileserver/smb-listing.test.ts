import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { accessText } from './set-access';
import { accessOf, listedFile, listedFiles, offeredShares } from './smb-listing';

/** A line as the program writes it: a name filled up to 30 bytes, letters in seven places, the size in eight. */
const lineOf = (name: string, letters: string, size: number, when: string) =>
  `  ${name}${' '.repeat(Math.max(0, 30 - Buffer.byteLength(name)))}${letters.padStart(7)} ${String(size).padStart(8)}  ${when}`;

describe('a listing of a share', () => {
  it('is read from its end: names may look like anything', () => {
    const name = fc
      .array(fc.constantFrom('a', ' ', 'é', '漢', '1', 'D', 'Wed Dec  2', '04:01:25', '2026', '.', '-', '😀'), {
        minLength: 1,
        maxLength: 12,
      })
      .map((parts) => parts.join('').trim())
      .filter((text) => text !== '' && text !== '.' && text !== '..');
    fc.assert(
      fc.property(name, fc.constantFrom('', 'D', 'A', 'HS', 'DR', 'AHSR'), fc.integer({ min: 0, max: 2 ** 50 }), (text, letters, size) => {
        const read = listedFile(lineOf(text, letters, size, 'Sat Feb  3 04:05:06 2001'));
        expect(read).toEqual({
          name: text,
          isFolder: letters.includes('D'),
          size,
          mtime: Date.UTC(2001, 1, 3, 4, 5, 6),
          attributes: letters.replace('D', ''),
        });
      }),
    );
  });

  it('leaves out the folder itself and what is no line of it', () => {
    const when = 'Wed Dec 12 04:01:25 2026';
    const lines = [
      'Try "help"',
      lineOf('.', 'D', 0, when),
      lineOf('..', 'D', 0, when),
      lineOf('plan', 'N', 3, when),
      lineOf('../../etc/x', 'N', 3, when),
      lineOf('..\\x', 'D', 0, when),
      '',
      '\t\t26 blocks of size 1024. 7 blocks available',
    ];
    expect(listedFiles(lines).map((f) => f.name)).toEqual(['plan']);
  });

  it('tells the shares that are offered, without those of administrators', () => {
    expect(offeredShares('Disk|plans|what | is\nDisk|C$|\nIPC|IPC$|x\nPrinter|laser|\n\nnoise')).toEqual([
      { name: 'plans', comment: 'what | is' },
    ]);
  });

  it('tells who may do what, and says it again', () => {
    const lines = [
      'FILENAME:plan',
      '\tACE',
      '\t\ttype: ACCESS ALLOWED (0) flags: 0x10 SEC_ACE_FLAG_INHERITED_ACE ',
      '\t\tSpecific bits: 0x1ff',
      '\t\tPermissions: 0x1f01ff: SYNCHRONIZE_ACCESS',
      '\t\tSID: S-1-22-1-0',
      '',
      '\t\ttype: ACCESS DENIED (1) flags: 0x00 ',
      '\t\tPermissions: 0x120089: READ_CONTROL_ACCESS ',
      '\t\tSID: S-1-1-0',
      '\tOwner SID:\tS-1-22-1-0',
      '\tGroup SID:\tS-1-22-2-7',
    ];
    const access = accessOf(lines)!;
    expect(access).toEqual({
      owner: 'S-1-22-1-0',
      group: 'S-1-22-2-7',
      entries: [
        ['S-1-22-1-0', 0, 16, 0x1f01ff],
        ['S-1-1-0', 1, 0, 0x120089],
      ],
    });
    expect(accessText(access)).toBe(
      'REVISION:1,OWNER:S-1-22-1-0,GROUP:S-1-22-2-7,ACL:S-1-22-1-0:0/0x10/0x1f01ff,ACL:S-1-1-0:1/0x0/0x120089',
    );
    expect(accessOf(['nothing of it'])).toBeUndefined();
  });
});
