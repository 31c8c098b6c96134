/** The folder under which a mail store stands opened, as mailboxes, beside the files it is made of. */
export const mailStoreFolder = '~mail';

/** Where a path leads into an opened mail store: the folder that is one, and what is left of the path. Byte strings; undefined where it leads into none. */
export function mailStoreOn(path: string): { readonly store: string; readonly rest: string } | undefined {
  const parts = path.split('/');
  const at = parts.indexOf(mailStoreFolder);
  return at < 0 ? undefined : { store: parts.slice(0, at).join('/'), rest: parts.slice(at + 1).join('/') };
}

/** The path of mail as points of mailboxes have it, below `Mail`; undefined for what is no mail. */
export function mailPathOf(path: string, ofMailbox: boolean): string | undefined {
  const mail = ofMailbox ? path : mailStoreOn(path)?.rest;
  return mail !== undefined && /^Mail(?:\/|$)/.test(mail) ? mail : undefined;
}
