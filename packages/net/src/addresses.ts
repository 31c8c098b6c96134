import ipaddr from 'ipaddr.js';

/** Address ranges that belong to no service of anybody: a host's own link, groups of hosts, and what clouds tell their machines about themselves. */
const neverRanges = new Set(['linkLocal', 'multicast', 'broadcast', 'unspecified', 'reserved']);
/** Services that tell a machine of a cloud its credentials, outside of the link-local ranges. */
const metadata = new Set(['fd00:ec2::254', '100.100.100.200', '168.63.129.16', '192.0.0.192']);
/** Addresses inside a house. */
const privateRanges = new Set(['private', 'loopback', 'uniqueLocal', 'carrierGradeNat']);

/**
 * Why nothing is sent to an address; undefined when it may be.
 * @param address IPv4 or IPv6 as text; an IPv4 address inside of an IPv6 one counts as that
 */
export function whyRefused(address: string, allowPrivate: boolean): string | undefined {
  const bare = address.replace(/^\[|\]$/g, '').replace(/%.*$/, '');
  if (!ipaddr.isValid(bare)) return 'it is no address';
  const parsed = ipaddr.process(bare);
  const range = rangeOf(parsed);
  if (metadata.has(parsed.toString()) || neverRanges.has(range)) return 'nothing is ever sent to addresses of this kind';
  if (privateRanges.has(range) && !allowPrivate) return 'the settings allow no private addresses';
  return undefined;
}

/** The range; of an address that carries an IPv4 one by a gateway, that of the inner one. */
function rangeOf(address: ipaddr.IPv4 | ipaddr.IPv6): string {
  const range = address.range();
  if (!(address instanceof ipaddr.IPv6) || !['rfc6052', '6to4'].includes(range)) return range;
  const bytes = address.toByteArray();
  return new ipaddr.IPv4(range === '6to4' ? bytes.slice(2, 6) : bytes.slice(12, 16)).range();
}
