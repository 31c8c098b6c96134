import { Component, signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { beforeEach, describe, expect, it } from 'vitest';
import { Slot, type SlotOption } from './slot';

const daysTo = (length: number): SlotOption<number>[] => Array.from({ length }, (_, i) => ({ value: i, label: `${i} days` }));

@Component({
  selector: 'lx-slot-host',
  imports: [Slot],
  template: `<lx-slot
    label="retention"
    [options]="options()"
    [(value)]="value"
    free="or type"
    (entered)="typed.set($event)"
    [disabled]="disabled()"
  />`,
})
class Host {
  readonly options = signal(daysTo(12));
  readonly value = signal(7);
  readonly typed = signal('');
  readonly disabled = signal(false);
}

describe('a slot of a sentence', () => {
  let host: Host;
  let settle: () => Promise<unknown>;
  const button = () => document.querySelector<HTMLButtonElement>('.slot')!;
  const choices = () => [...document.querySelectorAll<HTMLButtonElement>('.choices button')];

  beforeEach(async () => {
    const fixture = TestBed.createComponent(Host);
    document.body.append(fixture.nativeElement as HTMLElement);
    host = fixture.componentInstance;
    settle = () => fixture.whenStable();
    await settle();
  });

  it('reads as its choice and says what it is for', () => {
    expect(button().textContent.trim()).toBe('7 days');
    expect(button().getAttribute('aria-label')).toBe('retention: 7 days');
  });

  it('opens in place, filters while typing and takes the choice', async () => {
    button().click();
    await settle();
    const box = document.querySelector<HTMLInputElement>('.menu input')!;
    box.value = '1';
    box.dispatchEvent(new Event('input'));
    await settle();
    expect(choices().map((c) => c.textContent.trim())).toEqual(['1 days', '10 days', '11 days']);
    choices()[1]!.click();
    await settle();
    expect(host.value()).toBe(10);
    expect(button().textContent.trim()).toBe('10 days');
  });

  it('shows a part of what is very long, and finds the rest by typing', async () => {
    host.options.set(daysTo(5000));
    button().click();
    await settle();
    expect(choices()).toHaveLength(200);
    expect(document.querySelector('.choices')!.textContent).toContain('4800 more: type to filter');
    const box = document.querySelector<HTMLInputElement>('.menu input')!;
    box.value = '4999';
    box.dispatchEvent(new Event('input'));
    await settle();
    expect(choices().map((c) => c.textContent.trim())).toEqual(['4999 days']);
    expect(document.querySelector('.choices')!.textContent).not.toContain('more');
  });

  it('hands on what was typed where other text is allowed', async () => {
    button().click();
    await settle();
    const box = document.querySelector<HTMLInputElement>('.menu input')!;
    box.value = ' 45 days ';
    box.dispatchEvent(new KeyboardEvent('keydown', { key: 'Enter' }));
    expect(host.typed()).toBe('45 days');
  });

  it('is plain text to who may not change it', async () => {
    host.disabled.set(true);
    await settle();
    expect(button().disabled).toBe(true);
  });
});
