export interface AclEntry {
  readonly tag: number;
  readonly permissions: number;
  /** Of named accounts and groups. */
  readonly id?: number;
}

/** An access list as Linux hands it to programs (linux/posix_acl_xattr.h, version 2). */
export function posixAcl(entries: readonly AclEntry[]): Buffer {
  const out = Buffer.alloc(4 + entries.length * 8);
  out.writeUInt32LE(2, 0);
  for (const [i, { tag, permissions, id }] of entries.entries()) {
    out.writeUInt16LE(tag, 4 + i * 8);
    out.writeUInt16LE(permissions, 6 + i * 8);
    out.writeUInt32LE(id ?? 0xffff_ffff, 8 + i * 8);
  }
  return out;
}
