import type { DatabaseServer } from '@lithodex/kinds';
import { ClientProgram, firstFile } from '../client-program';

/** As option files want it: quoted, with backslashes doubled. */
const optionText = (text: string) => `"${text.replace(/["\\]/g, '\\$&')}"`;

/** Starts a client program of the family on a server. `address`: where the server was found to be. */
export function startProgram(program: string, server: DatabaseServer, address: string, args: readonly string[]): ClientProgram {
  const { authority, encrypted } = server;
  // the certificate names the host, so that is what is connected to where it is checked
  const lines = [
    '[client]',
    `host=${encrypted ? server.host : address}`,
    `port=${server.port}`,
    'protocol=tcp',
    `user=${optionText(server.account)}`,
    `password=${optionText(server.password)}`,
    ...(encrypted ? ['ssl', 'ssl-verify-server-cert', ...(authority ? [`ssl-ca=/dev/fd/${firstFile + 1}`] : [])] : ['skip-ssl']),
  ];
  const files = [`${lines.join('\n')}\n`, ...(authority ? [authority] : [])];
  return ClientProgram.start(program, [`--defaults-file=/dev/fd/${firstFile}`, ...args], { files });
}
