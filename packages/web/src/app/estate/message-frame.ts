/** What a page inside a frame may load: nothing from anywhere, and what it brings itself as pictures and looks. */
const policy = "default-src 'none'; img-src data:; style-src 'unsafe-inline'; font-src 'none'; form-action 'none'; base-uri 'none'";

/** Looks that may name an address, also where that is written so that it is not seen. */
const fetches = /url|image|import|expression|src|\\/i;

/** What cleans pages, made when the first one is shown. */
let purifier: Promise<typeof import('dompurify').default> | undefined;

async function makePurifier() {
  const { default: purify } = await import('dompurify');
  // looks that name something to fetch go as a whole: the policy of the frame would stop it, and is not to be needed
  purify.addHook('uponSanitizeAttribute', (_node, data) => {
    if (data.attrName === 'style' && fetches.test(data.attrValue)) data.keepAttr = false;
  });
  purify.addHook('uponSanitizeElement', (node, data) => {
    if (data.tagName === 'style' && fetches.test(node.textContent ?? '')) (node as Element).remove();
  });
  return purify;
}

/** The page of a message as it may stand in a frame without scripts: cleaned, with nothing that is fetched or sent. */
export async function cleanPage(html: string): Promise<string> {
  const purify = await (purifier ??= makePurifier());
  const body = purify.sanitize(html, {
    USE_PROFILES: { html: true },
    FORBID_TAGS: [
      'form',
      'input',
      'button',
      'select',
      'textarea',
      'iframe',
      'object',
      'embed',
      'link',
      'meta',
      'base',
      'audio',
      'video',
      'source',
    ],
    FORBID_ATTR: ['srcset', 'background', 'action', 'formaction', 'ping', 'target'],
    ALLOW_DATA_ATTR: false,
    // pictures only that the message brings itself; links are shown and lead nowhere
    ALLOWED_URI_REGEXP: /^data:image\/(?:png|gif|jpeg|webp);base64,/i,
  });
  return `<!doctype html><html><head><meta http-equiv="Content-Security-Policy" content="${policy}"><style>body{font:14px/1.5 sans-serif;margin:10px;color:#1b242b;background:#fff;overflow-wrap:anywhere}img{max-width:100%}</style></head><body>${body}</body></html>`;
}
