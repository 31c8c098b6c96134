import { z } from 'zod';

/** As large as the database numbers its rows. */
export const largestId = 4_294_967_295;
export const Id = z.int().positive().max(largestId);
/** Milliseconds since the epoch. */
export const Instant = z.int().min(-8_640_000_000_000_000).max(8_640_000_000_000_000);
/** Bytes. */
export const Bytes = z.number().nonnegative().max(Number.MAX_SAFE_INTEGER);
export const Count = z.int().nonnegative();
/** Compared as people read it: composed, and without anything that can't be seen. */
export const Name = z
  .string()
  .normalize()
  .trim()
  .min(1)
  .max(120)
  .regex(/^[^\p{Cc}\p{Cs}\u2028\u2029]*$/u, 'no control characters');
/** A name or a path of any bytes: one character (0–255) a byte. */
export const ByteString = z.string().max(200_000);
/** A certificate authority that a certificate is checked with (PEM); null for those that the mover's system trusts. */
export const Authority = z
  .string()
  .trim()
  .max(20_000)
  .regex(/^-----BEGIN CERTIFICATE-----/, 'text that begins with -----BEGIN CERTIFICATE-----')
  .nullable()
  .default(null);
/** The address of a service, without a slash at its end. */
export const ServiceUrl = z
  .url({ protocol: /^https?$/ })
  .max(300)
  .transform((text) => text.replace(/\/+$/, ''));
