export interface RadicaleServer {
  readonly port: number;
  readonly pid: number;
  collectionsOf(login: string): string;
  stop(): Promise<void>;
}
export function startRadicale(
  folder: string,
  options: {
    readonly people: Readonly<Record<string, string>>;
    readonly keeper: { readonly name: string; readonly password: string };
    readonly port?: number;
  },
): Promise<RadicaleServer>;
