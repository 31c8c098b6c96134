import fs from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { z } from 'zod';
import { CliError } from './errors';

/** A server as it is reached from here. */
export const Profile = z.object({
  address: z.url({ protocol: /^https?$/ }).max(300),
  token: z.string().min(1).max(200),
  /** Certificates that are trusted besides those of the system, PEM. */
  authority: z.string().max(100_000).optional(),
});
export type Profile = z.infer<typeof Profile>;

const Profiles = z.object({ used: z.string().nullable(), profiles: z.record(z.string(), Profile) });
export type Profiles = z.infer<typeof Profiles>;

export const profilesFile = (): string =>
  process.env['LITHODEX_PROFILES'] ??
  path.join(process.env['XDG_CONFIG_HOME'] ?? path.join(os.homedir(), '.config'), 'lithodex', 'profiles.json');

/** The profiles that are kept. Throws NO_PROFILE where others can read their tokens. */
export function readProfiles(file = profilesFile()): Profiles {
  if (!fs.existsSync(file)) return { used: null, profiles: {} };
  if (fs.statSync(file).mode & 0o077)
    throw new CliError('NO_PROFILE', `${file} holds tokens and can be read by others. Call: chmod 600 ${file}`);
  const read = Profiles.safeParse(JSON.parse(fs.readFileSync(file, 'utf8')));
  if (!read.success) throw new CliError('NO_PROFILE', `${file} is not valid: ${z.prettifyError(read.error)}`);
  return read.data;
}

/** Writes the profiles whole or not at all, for this account only. */
export function writeProfiles(profiles: Profiles, file = profilesFile()): void {
  fs.mkdirSync(path.dirname(file), { recursive: true, mode: 0o700 });
  fs.writeFileSync(`${file}.new`, `${JSON.stringify(profiles, null, 2)}\n`, { mode: 0o600 });
  fs.renameSync(`${file}.new`, file);
}

/** The profile that is meant: named, in LITHODEX_PROFILE, or the one in use. LITHODEX_ADDRESS and LITHODEX_TOKEN stand for one. Throws NO_PROFILE. */
export function profileOf(name?: string): Profile {
  const { LITHODEX_ADDRESS: address, LITHODEX_TOKEN: token, LITHODEX_AUTHORITY: authority, LITHODEX_PROFILE: chosen } = process.env;
  if (name === undefined && address && token)
    return Profile.parse({ address, token, ...(authority && { authority: fs.readFileSync(authority, 'utf8') }) });
  const { used, profiles } = readProfiles();
  const wanted = name ?? chosen ?? used;
  const profile = wanted === null ? undefined : profiles[wanted];
  if (profile) return profile;
  const known = Object.keys(profiles);
  if (wanted !== null)
    throw new CliError('NO_PROFILE', `There is no profile "${wanted}"${known.length ? `; there are ${known.join(', ')}` : ''}.`);
  throw new CliError('NO_PROFILE', 'No server is known here yet. Call: lithodex cli profile add NAME --address https://…');
}
