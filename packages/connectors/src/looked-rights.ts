import type { SystemTest } from '@lithodex/kinds';
import { SourceError } from './source-error';

/** What an account may do, looked at right by right. */
export class LookedRights {
  readonly needs: SystemTest['needs'] = [];
  private readonly remarks: string[] = [];

  /** Tries what takes a right; `act` tells what it came to. */
  readonly look = async (right: string, neededFor: string, act: () => Promise<string>): Promise<void> => {
    try {
      this.remarks.push(await act());
      this.needs.push({ right, neededFor, missing: false });
    } catch (error) {
      if (!(error instanceof SourceError)) throw error;
      this.needs.push({ right, neededFor, missing: true });
      this.remarks.push(error.message);
    }
  };

  /** What came of it, where the first right is to list what there is; `answers`: what answers, `holds`: what it holds. */
  test(found: number, answers: string, holds: string): SystemTest {
    const { needs, remarks } = this;
    const ok = found > 0 && needs.some((n, i) => i > 0 && !n.missing);
    const all = needs.every((n) => !n.missing);
    return {
      ok,
      message: !ok
        ? (remarks.find((_, i) => needs[i]?.missing) ?? `There is no ${holds}.`)
        : all
          ? `${answers} answers, and the account may read what is needed. Whether it may write is seen when something is brought back.`
          : `${answers} answers; not everything is allowed.`,
      needs,
      remarks,
      credentialEnds: null,
      found,
    };
  }
}
