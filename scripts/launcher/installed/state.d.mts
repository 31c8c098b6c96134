import type { DatabaseSettings } from './database.mjs';

export interface Opened {
  readonly places: {
    readonly state: string;
    readonly settings: string;
    readonly config: string;
    readonly database: string;
    readonly dumps: string;
    readonly tls: string;
  };
  readonly settings: {
    readonly port: number;
    readonly databasePort: number;
    readonly names: readonly string[];
    readonly certificate: unknown;
  };
  readonly config: { readonly database: DatabaseSettings };
  readonly files: { readonly certificate: string; readonly key: string; readonly authority: string; readonly renewed: boolean };
}
export function openInstallation(state: string, asked?: object, owner?: readonly [number, number]): Promise<Opened>;
export function loadInstallation(state: string): Opened;
