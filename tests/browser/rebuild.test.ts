import { spawnSync } from 'node:child_process';
import path from 'node:path';
import { makeUnit } from '@lithodex/standins';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { violationsInBothThemes } from '../support/accessible';
import { Visitor } from '../support/browser';
import { Harness, passwords, type Client } from '../support/harness';
import { UnitRoom, usualUnit } from '../support/unit-room';

let h: Harness;
let eva: Visitor;
let admin: Client;
let room: UnitRoom;

beforeAll(async () => {
  h = await Harness.start({ movers: 0, schedulerMs: 300, webDir: path.resolve('packages/web/dist/browser') });
  admin = await h.withToken('administrator');
  room = await UnitRoom.open(h, admin);
  eva = await Visitor.arrive(h.base);
  await eva.signIn('administrator', passwords.administrator);
}, 120_000);
afterAll(async () => {
  await eva.leave();
  await room.cleared();
  await h.stop();
});

const placed = () => eva.address.searchParams.get('placed');
const startIsHeld = () => eva.page.$eval('.start button', (b) => b.disabled);
/** Chooses in the table where a volume goes, by the keyboard. */
async function sendTo(volume: string, disk: string): Promise<void> {
  await eva.page.focus(`select[aria-label="Disk of ${volume}"]`);
  await eva.page.keyboard.type(disk);
  await eva.settles();
}
async function size(volume: string, gigabytes: string): Promise<void> {
  await eva.type(`Size of ${volume} in GB`, gigabytes);
  await eva.keys('Tab');
  await eva.settles();
}

describe('a server that is gone, in the browser', () => {
  it('finds a machine that reported in with the code shown once', async () => {
    const used = [{ ...usualUnit.disks[0]!, label: 'old test system' }, usualUnit.disks[1]!];
    makeUnit(room.folderOf('C4-07'), { ...usualUnit, disks: used });
    await eva.open('/recover/units');
    await eva.sees('No unit has reported in');
    await eva.press('Let a unit report in');
    await eva.sees('lxu_');
    room.boot('C4-07', /lxu_\S+/.exec(await eva.text())![0]);
    await room.reported('C4-07');
    await eva.open('/recover/units');
    await eva.sees('answers now');
    expect(await violationsInBothThemes(eva)).toEqual([]);
    await eva.press('Rebuild a server on C4-07');
    await eva.choose('server', 'quay-gate');
    await eva.sees('Old volumes onto new disks');
  });

  it('is held by what would go wrong, each said with its numbers', async () => {
    await eva.sees('“old test system”, ext4');
    await eva.sees('when nothing stands in the way');
    expect(await startIsHeld()).toBe(true);
    await size('/', '0.2');
    await eva.sees('is the least');
    expect(placed()).toContain('sda2');
    await sendTo('/', 'K3-91');
    await eva.sees('does not start from first');
    await eva.press('As proposed');
    await eva.settles();
    expect(placed()).toBeNull();
    expect(await violationsInBothThemes(eva)).toEqual([]);
  });

  it('has its volumes dragged from disk to disk, which the address keeps', async () => {
    const centre = (selector: string) =>
      eva.page.$eval(selector, (el) => {
        const { x, y, width, height } = el.getBoundingClientRect();
        return { x: x + width / 2, y: y + height / 2 };
      });
    const from = await centre('[data-disk="K3-91"] .bed');
    const to = await centre('[data-disk="K3-88"] .body');
    await eva.page.mouse.move(from.x, from.y);
    await eva.page.mouse.down();
    await eva.page.mouse.move(from.x + 20, from.y, { steps: 4 });
    await eva.page.mouse.move(to.x, to.y, { steps: 8 });
    await eva.page.mouse.up();
    await eva.settles();
    expect(placed()).toContain('K3-88');
    await eva.open(`${eva.address.pathname}${eva.address.search}`);
    await eva.sees('Old volumes onto new disks');
    expect(await eva.page.$$('[data-disk="K3-91"] .bed')).toHaveLength(0);
    await eva.press('As proposed');
    await eva.settles();
  });

  it('is made anew on other disks, and its run tells how far it is', async () => {
    await eva.tick('Disk K3-91');
    await eva.sees('4 need you');
    for (const left of ['3 need you', '2 need you', '1 needs you', 'when you say why']) {
      await eva.press('Agree');
      await eva.sees(left);
    }
    expect(await startIsHeld()).toBe(true);
    await eva.type('Why, kept in the audit trail', 'its hardware is gone');
    await eva.press('Start rebuild');
    await eva.page.waitForFunction(() => location.pathname.startsWith('/runs/'));
    await eva.page.waitForFunction(() => /done|remarks|failed/.test(document.querySelector('.state')?.textContent ?? ''));
    await eva.sees('starts from there');
    room.expectWhole('C4-07');
    expect(spawnSync('blkid', ['--probe', `${room.folderOf('C4-07')}/K3-91.img`]).stdout.toString()).toContain('gpt');
    await eva.open('/recover/units');
    await eva.sees('quay-gate, done');
    expect(eva.problems).toEqual([]);
  });
});
