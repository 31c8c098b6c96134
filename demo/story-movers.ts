import { spawn, type ChildProcess } from 'node:child_process';
import fs from 'node:fs';

/** Name of the mover beside the tide gauges: it only reads, and has no keys. */
export const readerName = 'tide-gauge';

/** The movers of the story: one that keeps, beside the server, and one that only reads. */
export class StoryMovers {
  private readonly running: ChildProcess[] = [];

  /** `port`: where the first takes what the other reads. */
  constructor(
    private readonly state: string,
    private readonly port: number,
  ) {}

  private start(base: string, name: string, tokenFile: string, more: readonly string[]): void {
    const args = ['--server', base, '--token-file', tokenFile, '--name', name, '--log-level', 'warn', ...more];
    this.running.push(spawn(process.execPath, ['dist/node/mover.js', ...args], { stdio: 'inherit' }));
  }

  startKeeper(base: string, token: string): void {
    const file = `${this.state}/mover-token`;
    fs.writeFileSync(file, token, { mode: 0o600 });
    this.start(base, 'quay-mover', file, ['--keys', `${this.state}/keys`, '--receive', `127.0.0.1:${this.port}`]);
  }

  startReader(base: string, token: string): void {
    const folder = `${this.state}/${readerName}`;
    fs.mkdirSync(folder, { recursive: true, mode: 0o700 });
    fs.writeFileSync(`${folder}/token`, token, { mode: 0o600 });
    this.start(base, readerName, `${folder}/token`, []);
  }

  stop(): void {
    for (const mover of this.running) mover.kill();
  }
}
