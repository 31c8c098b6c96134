export interface Account {
  readonly name: string;
  readonly user: string;
  readonly password: string;
}
export function freePort(wanted?: number): Promise<number>;
export function openAccount(socket: string, account: Account): number;
export function removeAccount(socket: string, account: Account): void;
export function runSql(socket: string, sql: string): string;
export function setDurable(socket: string, durable: boolean): void;
export function startMariadb(
  folder: string,
  account?: Account,
  port?: number,
  log?: number,
  more?: readonly string[],
): Promise<{ readonly port: number; readonly socket: string; readonly pid: number; stop(): Promise<void> }>;
