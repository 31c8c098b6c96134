import { TestBed } from '@angular/core/testing';
import { describe, expect, it, vi } from 'vitest';
import { EditedText } from './edited-text';

/** Gives a file to the box of a component. */
async function given(...parts: BlobPart[]) {
  const fixture = TestBed.createComponent(EditedText);
  await fixture.whenStable();
  const page = fixture.nativeElement as HTMLElement;
  const box = page.querySelector('input')!;
  Object.defineProperty(box, 'files', { value: [new File(parts, 'tariff.sql')] });
  box.dispatchEvent(new Event('change'));
  await vi.waitFor(() => {
    fixture.detectChanges();
    expect(page.querySelector('b, [role=alert]')).not.toBeNull();
  });
  return { page, edited: () => fixture.componentInstance.edited() };
}

describe('a text that was edited', () => {
  it('is taken as it is, and can be left again', async () => {
    const { page, edited } = await given("INSERT INTO tariff VALUES (1, 'Tär');\n");
    expect(edited()).toEqual({ name: 'tariff.sql', text: "INSERT INTO tariff VALUES (1, 'Tär');\n" });
    expect(page.textContent).toContain('instead of what is stored');
    page.querySelector('button')!.click();
    expect(edited()).toBeUndefined();
  });

  it('is refused where it is no text, or too large', async () => {
    const broken = await given(new Uint8Array([0x61, 0xff, 0xfe]));
    expect(broken.page.querySelector('[role=alert]')!.textContent).toContain('is not text in UTF-8');
    expect(broken.edited()).toBeUndefined();
    const large = await given('x'.repeat(8_000_001));
    expect(large.page.querySelector('[role=alert]')!.textContent).toContain('larger than 8');
  });
});
