import { execFileSync, spawn, type ChildProcess } from 'node:child_process';
import fs from 'node:fs';
import net from 'node:net';
import { setTimeout as pause } from 'node:timers/promises';
import { freePort } from '../../scripts/launcher/mariadb.mjs';

export const base = 'dc=kelmar-harbour,dc=example';
const schemas = ['core', 'cosine', 'inetorgperson'].map((name) => `include /etc/ldap/schema/${name}.schema`);

/** A directory (LDAP) of Debian's on loopback, with an account that may read it. */
export class Directory {
  private constructor(
    readonly port: number,
    private readonly process: ChildProcess,
  ) {}

  /** @param ldif entries below {@link base}, which is made */
  static async start(folder: string, ldif: string): Promise<Directory> {
    fs.mkdirSync(`${folder}/db`, { recursive: true });
    const settings = [
      ...schemas,
      'modulepath /usr/lib/ldap',
      'moduleload back_mdb',
      `pidfile ${folder}/pid`,
      'sizelimit 100',
      'database mdb',
      `suffix "${base}"`,
      `rootdn "cn=keeper,${base}"`,
      'rootpw keeps',
      `directory ${folder}/db`,
      'maxsize 67108864',
      // who is not let in reads nothing; answers are given in pages, as large directories do
      `limits dn.exact="cn=reader,${base}" size=100 size.prtotal=unlimited`,
      'access to attrs=userPassword by anonymous auth by * none',
      `access to * by dn.exact="cn=reader,${base}" read by anonymous auth by * none`,
      '',
    ];
    fs.writeFileSync(`${folder}/slapd.conf`, settings.join('\n'));
    const top = `dn: ${base}\nobjectClass: dcObject\nobjectClass: organization\no: Kelmar Harbour\ndc: kelmar-harbour\n\n`;
    const reader = `dn: cn=reader,${base}\nobjectClass: organizationalRole\nobjectClass: simpleSecurityObject\ncn: reader\nuserPassword: reads all\n\n`;
    fs.writeFileSync(`${folder}/data.ldif`, top + reader + ldif);
    execFileSync('/usr/sbin/slapadd', ['-f', `${folder}/slapd.conf`, '-l', `${folder}/data.ldif`]);
    const port = await freePort();
    const child = spawn('/usr/sbin/slapd', ['-f', `${folder}/slapd.conf`, '-h', `ldap://127.0.0.1:${port}`, '-d', '0'], {
      stdio: 'ignore',
    });
    for (let n = 0; n < 100 && !(await answers(port)); n++) await pause(50);
    return new Directory(port, child);
  }

  async stop(): Promise<void> {
    const ended = new Promise((resume) => this.process.once('exit', resume));
    this.process.kill('SIGTERM');
    await ended;
  }
}

function answers(port: number): Promise<boolean> {
  return new Promise((resolve) => {
    const socket = net.connect(port, '127.0.0.1');
    socket.once('connect', () => {
      socket.destroy();
      resolve(true);
    });
    socket.once('error', () => {
      resolve(false);
    });
  });
}
