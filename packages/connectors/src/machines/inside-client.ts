import { z } from 'zod';
import { SourceError } from '../source-error';
import type { PlatformClient } from './platform-client';
import type { InsideAccount } from './platform-types';

export interface InsideProperties {
  readonly mode: number;
  readonly uid: number;
  readonly gid: number;
  /** ms. */
  readonly mtime: number;
}

const Items = z
  .object({
    items: z
      .array(
        z.object({ name: z.string().max(4000), kind: z.enum(['file', 'folder', 'link', 'other']), size: z.number(), mtime: z.number() }),
      )
      .max(1_000_000),
  })
  .nullable();
export type InsideItem = NonNullable<z.infer<typeof Items>>['items'][number];
const Mounts = z.array(z.object({ disk: z.string().max(200), volume: z.string().max(300), at: z.string().max(4000) })).max(1000);
const Sum = z.object({ sum: z.string().regex(/^[0-9a-f]{64}$/) });

/** A byte string as text. Throws for one that is not UTF-8: a platform takes text only. */
export function insideText(path: string): string {
  try {
    return new TextDecoder('utf-8', { fatal: true, ignoreBOM: true }).decode(Buffer.from(path, 'latin1'));
  } catch {
    throw new Error('its name is not UTF-8, so the platform can not be told of it');
  }
}

/** Files inside a machine while it runs. Paths are absolute text. Every call throws SourceError. */
export class InsideClient {
  constructor(
    private readonly client: PlatformClient,
    private readonly machine: string,
    private readonly account: InsideAccount | null,
  ) {}

  private async ask<T>(act: string, path: string, answer: z.ZodType<T>, more: object = {}, data?: Uint8Array): Promise<T> {
    const head = JSON.stringify({ account: this.account, path, ...more });
    const said = await this.client.askInside(this.machine, act, data ? [Buffer.from(`${head}\n`), data] : [Buffer.from(head)]);
    const parsed = answer.safeParse(said);
    if (!parsed.success) throw new SourceError('PLATFORM_FAILED', 'what answers there is no platform');
    return parsed.data;
  }

  mounts(): Promise<{ disk: string; volume: string; at: string }[]> {
    return this.ask('mounts', '/', Mounts);
  }

  /** Items of a folder; null where there is none. */
  async list(path: string): Promise<InsideItem[] | null> {
    return (await this.ask('list', path, Items))?.items ?? null;
  }

  /** SHA-256 of a file as the machine reads it. */
  async sum(path: string): Promise<string> {
    return (await this.ask('sum', path, Sum)).sum;
  }

  async makeFolder(path: string, properties: InsideProperties): Promise<void> {
    await this.ask('make', path, z.unknown(), { item: { kind: 'folder' }, properties });
  }

  async makeLink(path: string, target: string, properties: InsideProperties): Promise<void> {
    await this.ask('make', path, z.unknown(), { item: { kind: 'link', target }, properties });
  }

  /** Sends a piece of a file; with `last` it gets its name and properties. */
  async write(path: string, upload: string, data: Uint8Array, last: InsideProperties | null): Promise<void> {
    await this.ask('write', path, z.unknown(), { upload, last }, data);
  }
}
