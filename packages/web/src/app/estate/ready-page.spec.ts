import { describe, expect, it } from 'vitest';
import type { Ready } from '@lithodex/contract';
import { hour, now, open, words } from '../../test/stage';
import { uuid, workloadDetail } from '../../test/samples';
import { whole } from '../../test/whole-server';

const at = (ready: Ready) =>
  open('/estate/1/ready', { answers: { readyToRebuild: ready, workload: workloadDetail([], { name: 'quay-gate', wholeServer: true }) } });

describe('whether a server could be rebuilt', () => {
  it('is said first, with what a machine has to be like that takes its place', async () => {
    const s = await at(whole);
    expect(words(s.one('.row-line'))).toContain('It could be rebuilt on other hardware.');
    const rows = s.all('tbody tr').map(words);
    expect(rows[0]).toMatch(
      /^sda Harbour Disk K3-sda, starts first 64.0 GB 3\d\.\d GB \/ 2\d\.\d GB 20.0 GB of content, 67.1 MB to put it together/,
    );
    expect(rows[1]).toContain('swap 8.00 GB as it is');
    expect(rows).toHaveLength(2);
    const facts = words(s.one('.facts'));
    expect(facts).toContain('Memory 16.0 GB as now');
    expect(facts).toContain('starts by UEFI, first “Harbour Linux”');
    expect(facts).toContain('e1000e for eno1');
    expect(facts).toContain('Without a driver storage 8086:a352');
    expect(facts).toContain('Not yet attached /srv/store (400 GB)');
  });

  it('draws the disks on one scale, with what each holds in words', async () => {
    const s = await at(whole);
    const drawing = s.one('lx-disk-cores svg');
    expect(drawing.getAttribute('aria-label')).toContain('sda, 64.0 GB, GPT: / 20.0 GB of 40.0 GB, ext4, swap 8.00 GB; needs at least 3');
    expect(drawing.getAttribute('aria-label')).toContain('/srv/store 300 GB of 400 GB, ext4, left out');
  });

  it('names what is missing, and the last point from which it could', async () => {
    const lacking: Ready = {
      ...whole,
      lastWhole: { id: uuid(3), moment: now - 14 * 24 * hour },
      lacksSince: now - 13 * 24 * hour,
      parts: [{ part: 'kernel', essential: true, missing: 'no kernel has an initramfs' }],
    };
    const s = await at(lacking);
    expect(words(s.one('.row-line'))).toContain('It could not be rebuilt. The newest point from which it could is of');
    expect(words(s.one('li'))).toContain('no kernel has an initramfs');
  });

  it('says that no point is there from which it could', async () => {
    const s = await at({
      ...whole,
      lastWhole: null,
      lacksSince: now,
      parts: [{ part: 'layout', essential: true, missing: 'no disk was found' }],
    });
    expect(words(s.one('.row-line'))).toContain('No point is there from which it could.');
  });

  it('is not known before there is a point', async () => {
    const s = await at({ point: null, system: null, parts: [], lastWhole: null, lacksSince: null, points: [] });
    expect(s.text()).toContain('There is no point yet that tells of its system.');
    expect(s.all('table')).toHaveLength(0);
  });
});
