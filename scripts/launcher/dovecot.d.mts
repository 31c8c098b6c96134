export interface MailPerson {
  readonly password: string;
  /** Bytes they may have. */
  readonly storage?: number;
}
export interface DovecotServer {
  readonly port: number;
  readonly pid: number;
  readonly owner: readonly [number, number];
  setPeople(people: Readonly<Record<string, MailPerson>>): void;
  storeOf(login: string): string;
  stop(): Promise<void>;
}
export function startDovecot(
  folder: string,
  options: {
    readonly people: Readonly<Record<string, MailPerson>>;
    readonly masters: Readonly<Record<string, string>>;
    readonly port?: number;
    readonly store?: string;
  },
): Promise<DovecotServer>;
