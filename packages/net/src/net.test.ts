import { PassThrough, Readable } from 'node:stream';
import http from 'node:http';
import type { AddressInfo } from 'node:net';
import { afterEach, describe, expect, it } from 'vitest';
import { addressOf, atMost, bytesOf, checkHost, OutgoingClient, privateAddressesSetting, whyRefused } from './index';

afterEach(() => {
  delete process.env['LITHODEX_PRIVATE_ADDRESSES'];
});

describe('addresses', () => {
  it.each([
    '169.254.169.254',
    '169.254.1.1',
    'fe80::1',
    'fe80::1%eth0',
    'fd00:ec2::254',
    '100.100.100.200',
    '::ffff:169.254.169.254',
    '64:ff9b::a9fe:a9fe',
    '0.0.0.0',
    '::',
    '255.255.255.255',
    '224.0.0.1',
    'ff02::1',
    'not an address',
  ])('%s is never reached', (address) => {
    expect(whyRefused(address, true)).toBeDefined();
  });

  it.each(['127.0.0.1', '::1', '10.1.2.3', '172.16.0.1', '192.168.1.1', 'fd12::1', '::ffff:10.0.0.1', '100.64.0.1'])(
    '%s only where private addresses are allowed',
    (address) => {
      expect(whyRefused(address, true)).toBeUndefined();
      expect(whyRefused(address, false)).toContain('private');
    },
  );

  it.each(['9.9.9.9', '2620:fe::9'])('%s always', (address) => {
    expect(whyRefused(address, false)).toBeUndefined();
  });

  it('are looked at after names were resolved, and where the host is an address itself', async () => {
    expect(await addressOf('localhost')).toMatch(/^(127\.0\.0\.1|::1)$/);
    process.env[privateAddressesSetting] = 'no';
    await expect(addressOf('localhost')).rejects.toMatchObject({ code: 'ADDRESS_REFUSED' });
    expect(() => {
      checkHost('[::1]');
    }).toThrow('private');
    expect(() => {
      checkHost('objects.example');
    }).not.toThrow();
  });
});

describe('answers', () => {
  it('are read up to a limit, whatever they say of their length', async () => {
    const endless = () =>
      Readable.from(
        (function* () {
          for (;;) yield Buffer.alloc(1000);
        })(),
      );
    await expect(bytesOf(endless(), 10_000)).rejects.toMatchObject({ code: 'TOO_MUCH' });
    await expect(bytesOf(new PassThrough(), 10, 99e12)).rejects.toMatchObject({ code: 'TOO_MUCH' });
    const short = await bytesOf(Readable.from([Buffer.from('ab'), Buffer.from('c')]), 3);
    expect(short.toString()).toBe('abc');
    // what is handed to another thread takes its memory along, so nothing else may lie in it
    expect(short.buffer.byteLength).toBe(3);
    await expect(bytesOf(atMost(endless(), 5000), 1e9)).rejects.toMatchObject({ code: 'TOO_MUCH' });
  });

  it('of a server are cut off by the connection', async () => {
    const server = http.createServer((_req, res) => {
      res.writeHead(200, { 'content-length': '99000000000000' });
      const more = () => {
        while (res.write(Buffer.alloc(65_536)));
      };
      res.on('drain', more);
      more();
    });
    await new Promise<void>((resume) => server.listen(0, '127.0.0.1', resume));
    const client = new OutgoingClient(1_000_000, 5000);
    const ask = () => client.request(new URL(`http://127.0.0.1:${(server.address() as AddressInfo).port}`), { method: 'GET' });
    await expect((await ask()).body.arrayBuffer()).rejects.toThrow();
    await expect(bytesOf((await ask()).body, 10, 99e12)).rejects.toMatchObject({ code: 'TOO_MUCH' });
    await expect(bytesOf((await ask()).body, 10)).rejects.toThrow();
    await (await ask()).body.dump({ limit: 10 }).catch(() => undefined);
    server.closeAllConnections();
    server.close();
  });
});
