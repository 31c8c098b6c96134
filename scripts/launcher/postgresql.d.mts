export function postgresqlProgram(name: string): string;
export function runPostgresql(socket: string, port: number, sql: string, database?: string): string;
export interface PostgresqlServer {
  readonly port: number;
  readonly socket: string;
  readonly pid: number;
  run(sql: string, database?: string): string;
  stop(): Promise<void>;
}
export function startPostgresql(folder: string, wantedPort?: number, more?: readonly string[]): Promise<PostgresqlServer>;
