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

/** Talks to a library; a cartridge that is in no drive is loaded when it is needed. Throws TARGET_MISSING, TARGET_REFUSED, CARTRIDGE_AWAY, OBJECT_MISSING. */
export class CartridgeLibrary {
  constructor(private readonly access: LibraryAccess) {}

  async inventory(): Promise<Inventory> {
    return (await this.json('GET', 'library')) as Inventory;
  }

  /** Writes a record behind the last one of a cartridge and returns its number, or {@link endOfMedium}. */
  async append(barcode: string, record: Uint8Array<ArrayBuffer>): Promise<number | typeof endOfMedium> {
    const answer = await this.onDrive(barcode, 'POST', 'records', record);
    if (answer === endOfMedium) return endOfMedium;
    return ((await answer.json()) as { record: number }).record;
  }

  /** A part of a record; shorter than asked at its end. */
  async read(barcode: string, record: number, offset: number, length: number): Promise<Buffer> {
    const answer = await this.onDrive(barcode, 'GET', `records/${record}?offset=${offset}&length=${length}`);
    if (answer === endOfMedium) throw new EngineError('OBJECT_MISSING', `${barcode}, record ${record}`);
    return Buffer.from(await answer.arrayBuffer());
  }

  /** Makes a cartridge empty, if it holds so many records. Throws TARGET_REFUSED when others have written to it. */
  async erase(barcode: string, records: number): Promise<void> {
    await this.onDrive(barcode, 'POST', `erase?records=${records}`);
  }

  private async json(method: string, path: string): Promise<unknown> {
    return (await this.ask(method, path)).json();
  }

  private async onDrive(barcode: string, method: string, what: string, body?: Uint8Array<ArrayBuffer>) {
    const path = `cartridges/${encodeURIComponent(barcode)}`;
    for (;;) {
      const answer = await this.ask(method, `${path}/${what}`, body);
      if (answer.ok) return answer;
      const { code, message } = (await answer.json()) as { code: string; message: string };
      if (code === 'END_OF_MEDIUM') return endOfMedium;
      if (code !== 'NOT_LOADED') throw refusal(code, barcode, message);
      const loaded = await this.ask('POST', `${path}/load`);
      if (!loaded.ok) {
        const refused = (await loaded.json()) as { code: string; message: string };
        throw refusal(refused.code, barcode, refused.message);
      }
    }
  }

  private async ask(method: string, path: string, body?: Uint8Array<ArrayBuffer>): Promise<Response> {
    const { endpoint, token } = this.access;
    let answer: Response;
    try {
      answer = await fetch(`${endpoint}/v1/${path}`, {
        method,
        headers: { authorization: `Bearer ${token}` },
        signal: AbortSignal.timeout(answerMs),
        ...(body && { body }),
      });
    } catch (error) {
      throw new EngineError('TARGET_MISSING', `${endpoint}: the library does not answer`, { cause: error });
    }
    if (answer.status === 401) throw new EngineError('TARGET_REFUSED', `${endpoint}: the token is not right`);
    if (answer.status === 503) throw new EngineError('TARGET_MISSING', `${endpoint}: the library is out of order`);
    return answer;
  }
}

function refusal(code: string, barcode: string, message: string): EngineError {
  if (code === 'NOT_HERE') return new EngineError('CARTRIDGE_AWAY', barcode);
  if (code === 'NO_RECORD') return new EngineError('OBJECT_MISSING', message);
  if (code === 'UNREADABLE') return new EngineError('OBJECT_DAMAGED', message);
  return new EngineError('TARGET_REFUSED', message);
}
