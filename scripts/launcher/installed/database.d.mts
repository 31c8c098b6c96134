export interface DatabaseSettings {
  readonly host: string;
  readonly port: number;
  readonly user: string;
  readonly password: string;
  readonly name: string;
  readonly tls?: { readonly authority?: string };
}
interface Installation {
  readonly places: { readonly state: string; readonly dumps: string; readonly database: string };
  readonly settings: object;
  readonly config: { readonly database: DatabaseSettings };
}
export function keepDatabase(installation: Installation, say: (text: string) => void): Promise<{ stop(): Promise<void> } | undefined>;
export function connect(config: { readonly database: DatabaseSettings }): Promise<{
  query(sql: string, values?: readonly unknown[]): Promise<[Record<string, unknown>[], unknown]>;
  end(): Promise<void>;
}>;
export function schemaThere(config: { readonly database: DatabaseSettings }): Promise<string>;
export function schemaKnown(): string;
export function dump(config: { readonly database: DatabaseSettings }, folder: string, label: string): string;
export function bringBack(config: { readonly database: DatabaseSettings }, file: string): Promise<void>;
export function dumpBeforeChange(installation: Installation): Promise<string | undefined>;
