import { Injectable } from '@angular/core';

const key = 'lx-last-act';
/** So often other tabs are told. */
const tellEveryMs = 5000;

/** When somebody last did something here, in whatever tab of this browser: pages refresh by themselves, so only what a person does counts. */
@Injectable({ providedIn: 'root' })
export class Idle {
  private last = Date.now();
  private told = 0;

  note(): void {
    this.last = Date.now();
    if (this.last - this.told < tellEveryMs) return;
    this.told = this.last;
    localStorage.setItem(key, String(this.last));
  }

  /** ms. */
  pause(): number {
    return Date.now() - Math.max(this.last, Number(localStorage.getItem(key) ?? 0));
  }
}
