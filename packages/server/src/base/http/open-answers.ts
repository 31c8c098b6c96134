/** What is being answered, so that a server that stops can wait for it: who asked may be gone before the answer is there. */
export class OpenAnswers {
  private readonly open = new Set<Promise<unknown>>();

  /** Follows an answer to its end. */
  async follow<T>(answer: Promise<T>): Promise<T> {
    this.open.add(answer);
    try {
      return await answer;
    } finally {
      this.open.delete(answer);
    }
  }

  /** Waits until all has been answered, at most `ms`. */
  async ended(ms: number): Promise<void> {
    let timer: NodeJS.Timeout | undefined;
    const over = new Promise((done) => (timer = setTimeout(done, ms)));
    await Promise.race([Promise.allSettled(this.open), over]);
    clearTimeout(timer);
  }
}
