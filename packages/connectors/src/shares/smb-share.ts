import { createHash } from 'node:crypto';
import { Readable, Transform } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { EngineError, systemCode } from '@lithodex/engine';
import type { ShareAddress, ShareOpener } from '@lithodex/kinds';
import { extract } from 'tar-stream';
import { fileContent } from '../file-content';
import { tarEnd, tarHeader, tarPadding } from '../files/tar-writer';
import { SourceError } from '../source-error';
import type { Share, ShareItem } from './share';
import { quoted, smbProgram, startSmb, whyNot } from './smb-program';

const mostSaid = 8000;

/** Nobody owns what lies on a share but who wrote it. */
const nobody = { owner: '', group: '' };

/** A share over SMB 3, by Samba's client in user space, which reads and writes archives. */
export class SmbShare implements Share {
  constructor(
    private readonly address: Extract<ShareAddress, { kind: 'smb' }>,
    private readonly opener: ShareOpener,
  ) {}

  /** Runs the program; what opens the share is in a file that only we can read, never among its arguments. */
  private async run(
    args: readonly string[],
    use: (stdin: NodeJS.WritableStream, stdout: Readable, hear: (words: Buffer) => void) => Promise<unknown>,
  ): Promise<string> {
    const { host, port, share } = this.address;
    const { child, clear } = await startSmb({ host, port, ...this.opener }, [smbProgram], ['-t', '120', `//${host}/${share}`, ...args]);
    try {
      let said = '';
      const hear = (words: Buffer) => {
        said = (said + words.toString()).slice(-mostSaid);
      };
      child.stderr.on('data', hear);
      const ended = new Promise<number | null>((resolve, reject) => {
        child.on('error', (error) => {
          reject(systemCode(error) === 'ENOENT' ? new SourceError('SHARE_PROGRAM_MISSING', smbProgram) : error);
        });
        child.on('close', resolve);
      });
      const used = use(child.stdin, child.stdout, hear).catch((error: unknown) => {
        child.kill();
        return error;
      });
      const [status, fault] = await Promise.all([ended, used]);
      if (fault instanceof EngineError || fault instanceof SourceError) throw fault;
      if (status !== 0) throw whyNot(said);
      if (fault instanceof Error) throw new SourceError('SHARE_FAILED', fault.message);
      return said;
    } finally {
      clear();
    }
  }

  private async command(text: string): Promise<void> {
    const said = await this.run(['-c', text], (stdin, stdout, hear) => {
      stdout.on('data', hear);
      stdin.end();
      return Promise.resolve();
    });
    // it ends well whatever became of the command
    const failed = /NT_STATUS_\w+/.exec(said);
    if (failed && failed[0] !== 'NT_STATUS_OBJECT_NAME_COLLISION') throw whyNot(said);
  }

  async makeFolder(wanted: string): Promise<void> {
    const parts = wanted.split('/').filter(Boolean);
    if (!parts.length) return this.command('ls');
    await this.command(parts.map((_, i) => `mkdir ${quoted(parts.slice(0, i + 1).join('/'))}`).join('; '));
  }

  removeFolder(wanted: string): Promise<void> {
    return this.command(`rmdir ${quoted(wanted)}`);
  }

  async write(
    below: string,
    items: AsyncIterable<ShareItem>,
    sent: (path: string, sum: string, bytes: number) => void,
    stopped: () => boolean,
  ): Promise<void> {
    const said = await this.run([`--directory=${below}`, '-Tx', '-'], (stdin, stdout, hear) => {
      stdout.on('data', hear);
      return pipeline(Readable.from(archive(items, sent, stopped)), stdin);
    });
    if (/NT_STATUS_\w+/.test(said)) throw whyNot(said);
  }

  async read(
    below: string,
    files: ReadonlyMap<string, number>,
    each: (path: string, sum: string) => void,
    stopped: () => boolean,
  ): Promise<void> {
    const said = await this.run([`--directory=${below}`, '-Tc', '-', '*'], async (stdin, stdout, hear) => {
      stdin.end();
      const entries = extract();
      const prefix = `./${below ? `${below}/` : ''}`;
      stdout.pipe(wholeBlocks(hear)).pipe(entries);
      for await (const entry of entries) {
        if (stopped()) throw new EngineError('STOPPED');
        const { name, type, size } = entry.header;
        const path = name.startsWith(prefix) ? name.slice(prefix.length) : name;
        const known = type === 'file' ? files.get(path) : undefined;
        const sum = createHash('sha256');
        for await (const piece of entry) if (known === size) sum.update(piece as Buffer);
        if (known !== undefined) each(path, known === size ? sum.digest('hex') : '');
      }
    });
    if (/NT_STATUS_(?!NO_SUCH_FILE)\w+/.test(said)) throw whyNot(said);
  }
}

const block = 512;

/** An archive without the words that the program puts behind it: they fill no block. */
function wholeBlocks(hear: (words: Buffer) => void): Transform {
  let rest: Buffer = Buffer.alloc(0);
  return new Transform({
    transform(piece: Buffer, _encoding, done) {
      const all = rest.length ? Buffer.concat([rest, piece]) : piece;
      const whole = all.length - (all.length % block);
      rest = all.subarray(whole);
      done(null, all.subarray(0, whole));
    },
    flush(done) {
      hear(rest);
      done();
    },
  });
}

async function* archive(
  items: AsyncIterable<ShareItem>,
  sent: (path: string, sum: string, bytes: number) => void,
  stopped: () => boolean,
): AsyncGenerator<Uint8Array> {
  for await (const { path: text, entry, tree } of items) {
    if (stopped()) throw new EngineError('STOPPED');
    const { attributes: _, hardId: __, ...plain } = entry;
    // in archives, too, names are bytes
    const header = tarHeader(Buffer.from(text).toString('latin1'), { ...plain, uid: 0, gid: 0 }, nobody);
    if (!header) continue;
    yield header;
    if (entry.kind !== 'file') continue;
    const sum = createHash('sha256');
    for await (const piece of fileContent(tree, entry)) {
      sum.update(piece);
      yield piece;
    }
    yield tarPadding(entry.size);
    sent(text, sum.digest('hex'), entry.size);
  }
  yield tarEnd;
}
