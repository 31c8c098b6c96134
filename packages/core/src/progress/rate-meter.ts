const windowMs = 5000;

/** Bytes a second over the last five seconds; over the whole time while there is only one sample. Times in ms. */
export class RateMeter {
  private readonly samples: { at: number; bytes: number }[] = [];
  constructor(private readonly began: number) {}

  /** Takes the bytes done so far at a time and tells the rate, never below 0. */
  rate(bytes: number, at: number): number {
    this.samples.push({ at, bytes });
    while (this.samples.length > 1 && at - this.samples[0]!.at > windowMs) this.samples.shift();
    const first = this.samples[0]!;
    const from = this.samples.length > 1 ? first : { at: this.began, bytes: 0 };
    return Math.max(0, ((bytes - from.bytes) / Math.max(1, at - from.at)) * 1000);
  }
}
