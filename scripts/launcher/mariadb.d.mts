export function freePort(wanted?: number): Promise<number>;
export function startMariadb(
  folder: string,
  account: { name: string; user: string; password: string },
  port?: number,
): Promise<{ readonly port: number; readonly pid: number; stop(): Promise<void> }>;
