import { ApiError } from '../../base/errors';

/** Of 0 to 4: from about 10^8 guesses on. */
const leastScore = 3;

type Check = (password: string, own: string[]) => { readonly score: number; readonly feedback: { readonly warning: string | null } };
let loaded: Promise<Check> | undefined;

/** The lists of common words and passwords take a second to read, so only who sets a password reads them. */
async function load(): Promise<Check> {
  const [{ ZxcvbnFactory }, common, english] = await Promise.all([
    import('@zxcvbn-ts/core'),
    import('@zxcvbn-ts/language-common'),
    import('@zxcvbn-ts/language-en'),
  ]);
  const factory = new ZxcvbnFactory({
    dictionary: { ...common.dictionary, ...english.dictionary },
    graphs: common.adjacencyGraphs,
    translations: english.translations,
  });
  return (password, own) => factory.check(password.slice(0, 100), own);
}

/** Refuses a password that is easy to guess: common ones, words and names in a row, keys that lie beside each other, one's own name. Throws PASSWORD_WEAK. */
export async function refuseWeak(password: string, ...own: readonly string[]): Promise<void> {
  const check = await (loaded ??= load());
  const names = own.flatMap((name) => [name, ...name.split(/[^\p{L}\p{N}]+/u)]).filter((part) => part.length > 2);
  const without = names.reduce((rest, name) => rest.replaceAll(new RegExp(escapeRegex(name), 'gi'), ''), password);
  const { score, feedback } = check(password, names);
  if (score < leastScore || without.length < password.length / 2)
    throw new ApiError(
      'PASSWORD_WEAK',
      undefined,
      `This password is too easy to guess${feedback.warning ? `: ${feedback.warning.replace(/\.$/, '').toLowerCase()}` : ''}. Some unusual words in a row make a good one. Nothing was changed.`,
    );
}

const escapeRegex = (text: string) => text.replace(/[.*+?^${}()|[\]\\]/g, '\\$&');
