import { readFileSync } from 'node:fs';
import { z } from 'zod';

export const Config = z.object({
  host: z.string().default('127.0.0.1'),
  port: z.int().min(0).max(65535).default(8420),
  /** Zone of the installation: used for new policies and for times on screen. */
  zone: z.string().default('UTC'),
  /** 32 bytes in hex; signs session cookies and keeps the secrets in the database closed. */
  sessionSecret: z.string().regex(/^[0-9a-f]{64}$/),
  webDir: z.string(),
  database: z.object({
    host: z.string().default('127.0.0.1'),
    port: z.int(),
    user: z.string(),
    password: z.string(),
    name: z.string(),
    /** It is spoken to by TLS only: with the authorities of the system, or with the one in this file. */
    tls: z.object({ authority: z.string().optional() }).optional(),
  }),
  /** Files of a certificate with its chain, and of its key: the server speaks HTTPS only, and takes files that changed without being started again. */
  tls: z.object({ certificate: z.string(), key: z.string() }).optional(),
  /** Port at which who comes without TLS is sent on to HTTPS; at the port of the server itself that happens too. */
  redirectPort: z.int().min(1).max(65535).optional(),
  /** SHA-256 in hex of the code by which the first administrator is made, while there is nobody. */
  firstCode: z
    .string()
    .regex(/^[0-9a-f]{64}$/)
    .optional(),
  /** Milliseconds a mover may be silent before its task is given to another. */
  leaseMs: z.int().min(500).default(30_000),
  /** Milliseconds a mover that asks for work waits for an answer while there is none. */
  claimWaitMs: z.int().min(0).default(20_000),
  schedulerMs: z.int().min(0).default(5000),
  /** Prune and verify targets without being asked. */
  targetCare: z.boolean().default(true),
  logLevel: z.string().default('info'),
  /** Whether messages may go to addresses inside a house. */
  privateAddresses: z.boolean().default(true),
  /** Proxies in front of the server that say whose address a request comes from: as Express takes it, a number of them or their addresses. */
  trustProxy: z.union([z.boolean(), z.int().min(0), z.string().max(500)]).default(false),
});
export type Config = z.infer<typeof Config>;

export function readConfig(file: string): Config {
  return Config.parse(JSON.parse(readFileSync(file, 'utf8')));
}
