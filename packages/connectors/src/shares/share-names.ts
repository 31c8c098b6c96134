/** What many systems that show a share can't hold in a name. */
const refused = /[\\:*?"<>|\0-\x1f]/g;
const escaped = (byte: string) => `%${byte.charCodeAt(0).toString(16).toUpperCase().padStart(2, '0')}`;

/** Names of devices, which some systems take for them whatever comes behind. */
const devices = /^(con|prn|aux|nul|com\d|lpt\d)(\.|$)/i;

/**
 * A name (byte string) as text that every share can hold: what it can't is written as %XX, as are bytes that are no UTF-8, and a last dot or space. The other way round: a name that is
 * like one written so has its % written so too.
 */
export function shareName(name: string): string {
  const bytes = Buffer.from(name, 'latin1');
  const text = bytes.toString('utf8');
  const isText = Buffer.from(text, 'utf8').equals(bytes);
  const percent = (isText ? text : name).replace(/%(?=[0-9A-F]{2})/g, '%25');
  const plain = (isText ? percent : percent.replace(/[\x80-\xff]/g, escaped)).replace(refused, escaped);
  const ended = plain.replace(/[. ]$/, escaped);
  return devices.test(ended) ? ended.replace(/^./, escaped) : ended;
}

/** The same for each part of a path. */
export const sharePath = (path: string): string => path.split('/').map(shareName).join('/');
