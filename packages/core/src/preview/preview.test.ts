import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { previewOf } from './preview';

const bytes = (text: string) => Uint8Array.from(text, (c) => c.charCodeAt(0));

describe('preview', () => {
  it('shows text as it is, whatever it says', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'grapheme', minLength: 1 }), (text) => {
        const shown = previewOf(new TextEncoder().encode(text), true);
        if (shown.as === 'text') expect(shown.text).toBe(text.replace(/^\ufeff/, ''));
        else expect(text).toMatch(/[\0-\x1f\x7f]|^BM|^GIF8/);
      }),
    );
    expect(previewOf(bytes('<script>alert(1)</script>'), true)).toEqual({ as: 'text', text: '<script>alert(1)</script>' });
  });

  it('does not mind a letter that is cut at the end of a part', () => {
    const data = new TextEncoder().encode('Größe');
    expect(previewOf(data.subarray(0, 3), false)).toEqual({ as: 'text', text: 'Gr' });
    expect(previewOf(data.subarray(0, 3), true)).toMatchObject({ as: 'bytes' });
  });

  it('knows UTF-16 by its mark', () => {
    expect(previewOf(Uint8Array.of(0xff, 0xfe, 0x41, 0, 0xe4, 0), true)).toEqual({ as: 'text', text: 'Aä' });
  });

  it('shows whole images only, and none that can run something', () => {
    expect(previewOf(bytes('\x89PNG\r\n\x1a\nrest'), true)).toEqual({ as: 'image', type: 'image/png' });
    expect(previewOf(bytes('\x89PNG\r\n\x1a\nrest'), false)).toMatchObject({ as: 'bytes' });
    expect(previewOf(bytes('<svg onload="x"/>'), true)).toMatchObject({ as: 'text' });
  });

  it('shows the front of everything else', () => {
    expect(previewOf(bytes('%PDF-1.7\0\x01binary'), true)).toEqual({
      as: 'bytes',
      rows: ['0000  25 50 44 46 2d 31 2e 37 00 01 62 69 6e 61 72 79  %PDF-1.7··binary'],
    });
  });
});
