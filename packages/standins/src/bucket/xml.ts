import XMLBuilder from 'fast-xml-builder';
import { XMLParser } from 'fast-xml-parser';
import { ServiceError } from './service-error';

const builder = new XMLBuilder({ ignoreAttributes: false, attributeNamePrefix: '@' });
const parser = new XMLParser({ parseTagValue: false, isArray: (name) => name === 'Part' || name === 'Object' });

/** A document with one root element; arrays become repeated elements, undefined ones are left out. */
export function toXml(root: string, content: object): string {
  return `<?xml version="1.0" encoding="UTF-8"?>\n${builder.build({ [root]: content })}`;
}

/** The content of the root element. Throws MalformedXML. */
export function fromXml(text: string, root: string): Record<string, unknown> {
  try {
    const parsed = (parser.parse(text) as Record<string, unknown>)[root];
    if (typeof parsed === 'object' && parsed !== null) return parsed as Record<string, unknown>;
  } catch {
    // told below, like a document of another kind
  }
  throw new ServiceError('MalformedXML');
}
