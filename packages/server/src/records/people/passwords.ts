import { randomBytes, scrypt, timingSafeEqual } from 'node:crypto';

const cost = { N: 2 ** 15, r: 8, p: 1 };

function derive(password: string, salt: Buffer, { N, r, p }: typeof cost): Promise<Buffer> {
  return new Promise((resolve, reject) => {
    scrypt(password.normalize('NFC'), salt, 32, { N, r, p, maxmem: 256 * N * r }, (error, key) => {
      if (error) reject(error);
      else resolve(key);
    });
  });
}

/** scrypt with 32 MiB (RFC 7914), or the memory that is given; the parameters stand in the result. */
export async function hashPassword(password: string, { N, r, p } = cost): Promise<string> {
  const salt = randomBytes(16);
  const key = await derive(password, salt, { N, r, p });
  return ['scrypt', N, r, p, salt.toString('base64'), key.toString('base64')].join('$');
}

export async function passwordFits(password: string, stored: string): Promise<boolean> {
  const [kind, N, r, p, salt, key] = stored.split('$');
  if (kind !== 'scrypt' || !salt || !key) return false;
  const wanted = Buffer.from(key, 'base64');
  const given = await derive(password, Buffer.from(salt, 'base64'), { N: Number(N), r: Number(r), p: Number(p) });
  return given.length === wanted.length && timingSafeEqual(given, wanted);
}
