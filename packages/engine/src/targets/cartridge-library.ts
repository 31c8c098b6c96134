import { AddressRefused, OutgoingClient, type OutgoingRequest } from '@lithodex/net';
import { z } from 'zod';
import { EngineError } from '../errors';

/** A library of cartridges as it is reached. */
export interface LibraryAccess {
  /** Like http://library.example:9100 */
  readonly endpoint: string;
  readonly token: string;
}

/** What the robot says of a cartridge within its reach. */
export interface SeenCartridge {
  readonly barcode: string;
  /** Bytes. */
  readonly capacity: number;
  readonly used: number;
  readonly records: number;
  readonly writeProtected: boolean;
  readonly position: { readonly at: 'drive' | 'slot'; readonly number: number };
}

export interface Inventory {
  readonly drives: readonly { readonly number: number; readonly barcode: string | null }[];
  readonly slots: number;
  readonly cartridges: readonly SeenCartridge[];
}

/** Nothing more fits on the cartridge. */
export const endOfMedium = Symbol('end of medium');

const answerMs = 300_000;
/** More than a record and any answer take. */
const mostBytes = 256 << 20;
const client = new OutgoingClient(mostBytes, answerMs);

interface Answer {
  readonly status: number;
  readonly body: Buffer;
}

const Barcode = z.string().max(100);
const InventoryAnswer = z.object({
  drives: z.array(z.object({ number: z.int(), barcode: Barcode.nullable() })).max(10_000),
  slots: z.int(),
  cartridges: z
    .array(
      z.object({
        barcode: Barcode,
        capacity: z.number(),
        used: z.number(),
        records: z.int(),
        writeProtected: z.boolean(),
        position: z.object({ at: z.enum(['drive', 'slot']), number: z.int() }),
      }),
    )
    .max(100_000),
}) satisfies z.ZodType<Inventory>;
const Appended = z.object({ record: z.int() });
const Refusal = z.object({ code: z.string().max(60), message: z.string().max(1000).default('') });

/** Talks to a library; a cartridge that is in no drive is loaded when it is needed. Throws TARGET_MISSING, TARGET_REFUSED, CARTRIDGE_AWAY, OBJECT_MISSING. */
export class CartridgeLibrary {
  constructor(private readonly access: LibraryAccess) {}

  async inventory(): Promise<Inventory> {
    return parsed(InventoryAnswer, await this.ask('GET', 'library'));
  }

  /** Writes a record behind the last one of a cartridge and returns its number, or {@link endOfMedium}. */
  async append(barcode: string, record: Uint8Array): Promise<number | typeof endOfMedium> {
    const answer = await this.onDrive(barcode, 'POST', 'records', record);
    if (answer === endOfMedium) return endOfMedium;
    return parsed(Appended, answer).record;
  }

  /** A part of a record; shorter than asked at its end. */
  async read(barcode: string, record: number, offset: number, length: number): Promise<Buffer> {
    const answer = await this.onDrive(barcode, 'GET', `records/${record}?offset=${offset}&length=${length}`);
    if (answer === endOfMedium) throw new EngineError('OBJECT_MISSING', `${barcode}, record ${record}`);
    return answer.body;
  }

  /** Makes a cartridge empty, if it holds so many records. Throws TARGET_REFUSED when others have written to it. */
  async erase(barcode: string, records: number): Promise<void> {
    await this.onDrive(barcode, 'POST', `erase?records=${records}`);
  }

  private async onDrive(
    barcode: string,
    method: OutgoingRequest['method'],
    what: string,
    body?: Uint8Array,
  ): Promise<Answer | typeof endOfMedium> {
    const path = `cartridges/${encodeURIComponent(barcode)}`;
    for (;;) {
      const answer = await this.ask(method, `${path}/${what}`, body);
      if (answer.status < 300) return answer;
      const { code, message } = parsed(Refusal, answer);
      if (code === 'END_OF_MEDIUM') return endOfMedium;
      if (code !== 'NOT_LOADED') throw refusal(code, barcode, message);
      const loaded = await this.ask('POST', `${path}/load`);
      if (loaded.status >= 300) {
        const refused = parsed(Refusal, loaded);
        throw refusal(refused.code, barcode, refused.message);
      }
    }
  }

  private async ask(method: OutgoingRequest['method'], path: string, body?: Uint8Array): Promise<Answer> {
    const { endpoint, token } = this.access;
    let answer: Answer;
    try {
      const url = new URL(`${endpoint}/v1/${path}`);
      const { statusCode, body: stream } = await client.request(url, {
        method,
        headers: { authorization: `Bearer ${token}` },
        signal: AbortSignal.timeout(answerMs),
        body: body ?? null,
      });
      answer = { status: statusCode, body: Buffer.from(await stream.arrayBuffer()) };
    } catch (error) {
      if (error instanceof AddressRefused) throw new EngineError('TARGET_REFUSED', error.message, { cause: error });
      throw new EngineError('TARGET_MISSING', `${endpoint}: the library does not answer`, { cause: error });
    }
    if (answer.status === 401) throw new EngineError('TARGET_REFUSED', `${endpoint}: the token is not right`);
    if (answer.status === 503) throw new EngineError('TARGET_MISSING', `${endpoint}: the library is out of order`);
    return answer;
  }
}

/** What a library says is read as what it should be; anything else is no library. Throws TARGET_REFUSED. */
function parsed<T extends z.ZodType>(schema: T, { body }: Answer): z.output<T> {
  try {
    return schema.parse(JSON.parse(body.toString()));
  } catch (error) {
    throw new EngineError('TARGET_REFUSED', 'what answers there is no library of cartridges', { cause: error });
  }
}

function refusal(code: string, barcode: string, message: string): EngineError {
  if (code === 'NOT_HERE') return new EngineError('CARTRIDGE_AWAY', barcode);
  if (code === 'NO_RECORD') return new EngineError('OBJECT_MISSING', message);
  if (code === 'UNREADABLE') return new EngineError('OBJECT_DAMAGED', message);
  return new EngineError('TARGET_REFUSED', message);
}
