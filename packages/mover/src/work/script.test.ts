import fs from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import type { MoverLine } from '@lithodex/contract';
import { afterAll, describe, expect, it } from 'vitest';
import { runScript, scriptFile } from './script';

const base = fs.realpathSync(fs.mkdtempSync(path.join(os.tmpdir(), 'lithodex-scripts-')));
const folder = path.join(base, 'scripts');
fs.mkdirSync(folder, { mode: 0o755 });
afterAll(() => {
  fs.rmSync(base, { recursive: true });
});

function put(name: string, text: string, mode = 0o755): string {
  const file = path.join(folder, name);
  fs.writeFileSync(file, `#!/bin/sh\n${text}\n`);
  fs.chmodSync(file, mode);
  return name;
}
async function run(name: string, more: { minutes?: number; stopped?: () => boolean } = {}): Promise<string[]> {
  const lines: MoverLine[] = [];
  const ctx = { log: (line: MoverLine) => lines.push(line), stopped: more.stopped ?? (() => false), scripts: folder };
  await runScript(ctx, name, more.minutes ?? 1, { LITHODEX_WORKLOAD: 'a b"; rm -rf x' });
  return lines.map((l) => `${l.level} ${l.message}`);
}

describe('the file of a script', () => {
  it.each([
    ['is not there', () => 'nothing.sh'],
    ['can not be run', () => put('plain.sh', 'true', 0o644)],
    ['others can write to', () => put('open.sh', 'true', 0o777)],
    [
      'leads out of its folder',
      () => {
        fs.writeFileSync(path.join(base, 'outside.sh'), '#!/bin/sh\ntrue\n', { mode: 0o755 });
        fs.symlinkSync(path.join(base, 'outside.sh'), path.join(folder, 'link.sh'));
        return 'link.sh';
      },
    ],
  ])('is refused when it %s', (_why, make) => {
    expect(() => scriptFile(folder, make())).toThrow(expect.objectContaining({ code: 'SCRIPT_REFUSED' }));
  });

  it('is refused without a folder, and in one that others can write to', () => {
    put('fine.sh', 'true');
    expect(() => scriptFile(undefined, 'fine.sh')).toThrow(/without a folder/);
    fs.chmodSync(folder, 0o777);
    expect(() => scriptFile(folder, 'fine.sh')).toThrow(/others than its owner/);
    fs.chmodSync(folder, 0o755);
    expect(scriptFile(folder, 'fine.sh')).toBe(path.join(folder, 'fine.sh'));
  });
});

describe('a script', () => {
  it('is told what it runs for, as it is, and what it writes is logged', async () => {
    const lines = await run(put('tell.sh', 'echo "for $LITHODEX_WORKLOAD"; echo trouble >&2; env | grep -c TOKEN; true'));
    expect(lines).toContain('note tell.sh: for a b"; rm -rf x');
    expect(lines).toContain('warning tell.sh: trouble');
    expect(lines).toContain('note tell.sh: 0');
  });

  it('may write more than fits a pipe; the log keeps the beginning', async () => {
    const lines = await run(
      put('long.sh', 'i=0; while [ $i -lt 3000 ]; do echo "line $i of many, long enough to fill what lies between"; i=$((i+1)); done'),
    );
    expect(lines).toHaveLength(501);
    expect(lines.at(-1)).toBe('note long.sh: 2500 more lines are left out');
  });

  it('has a line that never ends cut', async () => {
    const lines = await run(put('endless.sh', 'head -c 3000000 /dev/zero | tr "\\\\0" x; echo; echo after'));
    expect(lines.map((l) => l.length)).toEqual([2000 + 'note endless.sh: '.length, 'note endless.sh: after'.length]);
  });

  it('fails with what it ended with', async () => {
    await expect(run(put('bad.sh', 'exit 3'))).rejects.toMatchObject({
      code: 'SCRIPT_FAILED',
      message: expect.stringContaining('it ended with 3'),
    });
    const file = path.join(folder, 'wrong.sh');
    fs.writeFileSync(file, '#!/no/such/shell\n', { mode: 0o755 });
    await expect(run('wrong.sh')).rejects.toMatchObject({ code: 'SCRIPT_FAILED' });
  });

  it('is ended with all it started when its time is over, or the task is stopped', async () => {
    const mark = path.join(base, 'alive');
    put('slow.sh', `(while true; do date > ${mark}; sleep 0.1; done) & sleep 600`);
    await expect(run('slow.sh', { minutes: 0.01 })).rejects.toMatchObject({ code: 'SCRIPT_TOO_LONG' });
    fs.rmSync(mark, { force: true });
    await new Promise((resume) => setTimeout(resume, 500));
    expect(fs.existsSync(mark)).toBe(false);
    let looks = 0;
    await expect(run('slow.sh', { stopped: () => ++looks > 1 })).rejects.toMatchObject({ code: 'STOPPED' });
  });

  it('does not hold up the task by what it leaves running', async () => {
    const began = Date.now();
    await run(put('leaves.sh', 'sleep 600 & echo left'));
    expect(Date.now() - began).toBeLessThan(20_000);
  });
});
