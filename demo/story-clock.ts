import type { Clock } from '@lithodex/server';

/** Story seconds that pass in a second of real work, as long as the story is of days gone by. */
const storyPace = 60;

/** A clock that is set to a moment of the story and runs on faster than ours. */
export class StoryClock implements Clock {
  private base = 0;
  private real = Date.now();
  private pace = storyPace;

  now(): number {
    return Math.round(this.base + (Date.now() - this.real) * this.pace);
  }

  /** `pace`: story seconds that pass in a second from then on. */
  set(moment: number, pace = storyPace): void {
    if (this.base && moment < this.now()) throw new Error('the story can not go back');
    this.base = moment;
    this.real = Date.now();
    this.pace = pace;
  }
}
