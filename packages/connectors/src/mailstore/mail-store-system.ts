import { createHash } from 'node:crypto';
import { itemNameOf } from '@lithodex/core';
import { EngineError } from '@lithodex/engine';
import { Recent, type FileSystem, type ItemDetail, type VolumeItem } from '@lithodex/volumes';
import { withFacts, withState } from '../tenant/item-facts';
import { messageStem } from '../tenant/item-words';
import { readMessage } from '../tenant/mime-parts';
import type { KeptMailbox, KeptMessage } from './stored-mailbox';

const mostListed = 100_000;
const keptMessages = 8;
/** Times beyond this are no dates, ms. */
const lastTime = 8.64e15;

interface Folder {
  readonly name: string;
  /** Names from the outermost folder on. */
  readonly path: readonly string[];
  readonly children: Map<string, number>;
  box: KeptMailbox | undefined;
}
interface Message {
  readonly item: VolumeItem;
  readonly kept: KeptMessage;
  readonly attributes: NonNullable<ItemDetail['attributes']>;
}

/** A message with the ends of lines that go over the wire. */
const onTheWire = (bytes: Buffer): Buffer => Buffer.from(bytes.toString('latin1').replace(/\r?\n/g, '\r\n'), 'latin1');

/** A mail store as a file system: folders, and in them messages under the names that points of mailboxes give them, with what is known of each. */
export class MailStoreSystem implements FileSystem {
  private readonly folders: Folder[] = [{ name: '', path: [], children: new Map(), box: undefined }];
  private readonly messages: Message[] = [];
  private readonly listed = new Map<number, Promise<VolumeItem[]>>();
  private readonly recent = new Recent<Buffer>(keptMessages, async (no) => onTheWire(await this.messages[no]!.kept.bytes()));

  constructor(boxes: readonly KeptMailbox[]) {
    for (const box of boxes) {
      let at = 0;
      for (const [i, part] of box.folders.entries()) {
        const folder = this.folders[at]!;
        const known = folder.children.get(part);
        if (known !== undefined) at = known;
        else {
          const made = this.folders.push({ name: part, path: box.folders.slice(0, i + 1), children: new Map(), box: undefined }) - 1;
          folder.children.set(part, made);
          at = made;
        }
      }
      this.folders[at]!.box ??= box;
    }
  }

  top(): Promise<VolumeItem> {
    return Promise.resolve(folderItem('', 0));
  }

  async *list(key: number): AsyncGenerator<VolumeItem[]> {
    const folder = isMessage(key) ? undefined : this.folders[numberOf(key)];
    if (!folder) throw new EngineError('PATH_MISSING', 'no such folder');
    yield [...folder.children].map(([name, no]) => folderItem(itemNameOf(name) || '~', no));
    const known = this.listed.get(key) ?? this.messagesOf(folder);
    this.listed.set(key, known);
    known.catch(() => this.listed.delete(key));
    yield await known;
  }

  private async messagesOf({ box }: Folder): Promise<VolumeItem[]> {
    const items: VolumeItem[] = [];
    if (!box) return items;
    const names = new Set<string>();
    for await (const kept of box.messages()) {
      if (items.length >= mostListed) break;
      const bytes = onTheWire(await kept.bytes());
      const at = Math.abs(kept.at) <= lastTime ? Math.trunc(kept.at) : 0;
      const sum = createHash('sha256').update(bytes).digest('hex');
      const facts = { ...readMessage(bytes).facts, sum, uid: 0, at, flags: [...kept.flags].sort().slice(0, 200) };
      const stem = messageStem(facts);
      let name = `${stem}.eml`;
      for (let n = 2; names.has(name); n++) name = `${stem} ${n}.eml`;
      names.add(name);
      const no = this.messages.length;
      const mtimeNs = BigInt(at) * 1_000_000n;
      const item: VolumeItem = { ...plain, name, kind: 'file', key: messageKey(no), size: bytes.length, mtimeNs, ctimeNs: mtimeNs };
      this.messages.push({ item, kept, attributes: withFacts(facts) ?? [] });
      items.push(item);
    }
    return items;
  }

  detail({ key }: VolumeItem): Promise<ItemDetail> {
    const attributes = isMessage(key)
      ? this.messages[numberOf(key)]?.attributes
      : withState({ path: this.folders[numberOf(key)]?.path.join('/') ?? '' });
    return Promise.resolve(attributes ? { attributes } : {});
  }

  async read(key: number, offset: number, length: number): Promise<Buffer> {
    if (!isMessage(key) || !this.messages[numberOf(key)]) throw new EngineError('PATH_MISSING', 'no such message');
    return (await this.recent.get(numberOf(key))).subarray(offset, offset + length);
  }
}

const plain = { uid: 0, gid: 0, mode: 0o600, linked: false, mtimeNs: 0n, ctimeNs: 0n, size: 0 } as const;
// folders have even numbers, messages odd ones
const messageKey = (no: number) => 2 * no + 1;
const isMessage = (key: number) => key % 2 === 1;
const numberOf = (key: number) => Math.floor(key / 2);
const folderItem = (name: string, no: number): VolumeItem => ({ ...plain, name, kind: 'folder', key: 2 * no, mode: 0o700 });
