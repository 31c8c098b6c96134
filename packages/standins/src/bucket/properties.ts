import type { IncomingMessage } from 'node:http';
import { ServiceError } from './service-error';
import type { Version } from './shelf';
import { fromXml } from './xml';

/** Headers that are given back as they were given. */
const kept = ['content-type', 'cache-control', 'content-disposition', 'content-encoding', 'content-language', 'expires'];
const classes = ['STANDARD', 'STANDARD_IA', 'GLACIER', 'DEEP_ARCHIVE'];
const rightOf: Readonly<Record<string, string>> = {
  'x-amz-grant-read': 'READ',
  'x-amz-grant-read-acp': 'READ_ACP',
  'x-amz-grant-write-acp': 'WRITE_ACP',
  'x-amz-grant-full-control': 'FULL_CONTROL',
};

const textOf = (req: IncomingMessage, name: string): string | undefined => {
  const value = req.headers[name];
  return typeof value === 'string' ? value : undefined;
};

/** What a request that writes an object says of it beside its bytes. */
export function propertiesOf(req: IncomingMessage): Pick<Version, 'meta' | 'class' | 'tags' | 'grants'> {
  const given = Object.entries(req.headers).filter(([name]) => name.startsWith('x-amz-meta-') || kept.includes(name));
  // the client names how it sends the body beside how the object is encoded
  const meta = given.map(([name, value]) => [name, String(value).replace(/^aws-chunked,?\s*|,?\s*aws-chunked$/, '')] as const);
  const own = textOf(req, 'x-amz-storage-class') ?? 'STANDARD';
  if (!classes.includes(own)) throw new ServiceError('InvalidStorageClass');
  const tags = [...new URLSearchParams(textOf(req, 'x-amz-tagging') ?? '')];
  const grants = Object.entries(rightOf).flatMap(([header, right]) =>
    (textOf(req, header) ?? '')
      .split(',')
      .filter((part) => part.trim() !== '')
      .map((part) => {
        const said = /^\s*(id|uri|emailAddress)="([^"]*)"\s*$/.exec(part);
        if (!said) throw new ServiceError('InvalidArgument', 'This is no grantee.');
        return { by: said[1]!, to: said[2]!, right };
      }),
  );
  return {
    meta: Object.fromEntries(meta.filter(([, value]) => value !== '')),
    ...(own !== 'STANDARD' && { class: own }),
    ...(tags.length && { tags }),
    ...(grants.length && { grants }),
  };
}

/** The tags of an object as the protocol tells them. */
export const tagging = ({ tags = [] }: Version): object => ({ TagSet: { Tag: tags.map(([Key, Value]) => ({ Key, Value })) } });

/** Tags out of a body. */
export function tagsFrom(xml: string): [string, string][] {
  const { TagSet } = fromXml(xml, 'Tagging') as { TagSet?: { Tag?: { Key: string; Value: string } | { Key: string; Value: string }[] } };
  return [TagSet?.Tag ?? []].flat().map(({ Key, Value }) => [String(Key), String(Value)]);
}

const typeOf: Readonly<Record<string, string>> = { id: 'CanonicalUser', uri: 'Group', emailAddress: 'AmazonCustomerByEmail' };
const fieldOf: Readonly<Record<string, string>> = { id: 'ID', uri: 'URI', emailAddress: 'EmailAddress' };

/** Who may do what with an object as the protocol tells it, the owner first. */
export const accessList = ({ grants = [] }: Version): object => ({
  Owner: { ID: 'standin' },
  AccessControlList: {
    Grant: [{ by: 'id', to: 'standin', right: 'FULL_CONTROL' }, ...grants].map(({ by, to, right }) => ({
      Grantee: { '@xmlns:xsi': 'http://www.w3.org/2001/XMLSchema-instance', '@xsi:type': typeOf[by], [fieldOf[by]!]: to },
      Permission: right,
    })),
  },
});
