import { readFileSync } from 'node:fs';
import { readConfig } from '@lithodex/server';
import { History } from './history';

interface Standins {
  readonly bucket: {
    readonly port: number;
    readonly accessKey: string;
    readonly secretKey: string;
    readonly buckets: readonly [{ readonly name: string }];
  };
  readonly library: { readonly port: number; readonly token: string; readonly barcodes: string };
  readonly berths: { readonly port: number; readonly account: string; readonly password: string };
  readonly berthsReplica: { readonly port: number };
  readonly tide: { readonly port: number; readonly account: string; readonly password: string };
  readonly platform: { readonly port: number; readonly account: string; readonly password: string };
  readonly organisation: { readonly port: number; readonly clientId: string; readonly clientSecret: string };
  readonly mail: { readonly smtpPort: number };
  readonly movers: { readonly port: number };
  readonly office: { readonly port: number; readonly secret: string };
  readonly officeMail: { readonly port: number };
  readonly officeCalendars: { readonly port: number };
  readonly surveys: { readonly folder: string; readonly port: number; readonly accessKey: string; readonly secretKey: string };
  readonly jetty: ClusterSettings;
  readonly skerry: ClusterSettings;
  readonly skyfjord: { readonly port: number; readonly client: string; readonly secret: string };
}

interface ClusterSettings {
  readonly folder: string;
  readonly port: number;
  readonly token: string;
}

const [, , configFile, state, standinFile, socket, tideSocket, replicaSocket] = process.argv;
if (!configFile || !state || !standinFile || !socket || !tideSocket || !replicaSocket)
  throw new Error('usage: demo CONFIG STATE STANDINS SOCKET SOCKET SOCKET');
const {
  bucket,
  library,
  platform,
  berths,
  berthsReplica,
  tide,
  mail,
  movers,
  organisation,
  office,
  officeMail,
  officeCalendars,
  surveys,
  ...rest
} = JSON.parse(readFileSync(standinFile, 'utf8')) as Standins;
const cluster = ({ folder, port, token }: ClusterSettings) => ({ folder, token, endpoint: `http://127.0.0.1:${port}` });
const { accessKey, secretKey } = bucket;
const standins = {
  bucket: { endpoint: `http://127.0.0.1:${bucket.port}`, bucket: bucket.buckets[0].name, accessKey, secretKey },
  library: { endpoint: `http://127.0.0.1:${library.port}`, token: library.token, barcodes: library.barcodes },
  platform: { endpoint: `http://127.0.0.1:${platform.port}`, account: platform.account, password: platform.password },
  berths: { ...berths, socket, replica: { ...berthsReplica, socket: replicaSocket } },
  tide: { ...tide, socket: tideSocket },
  office: {
    folder: `${state}/office`,
    url: `http://127.0.0.1:${office.port}`,
    secret: office.secret,
    mailPort: officeMail.port,
    calendarPort: officeCalendars.port,
  },
  surveys: { ...surveys, endpoint: `http://127.0.0.1:${surveys.port}` },
  clusters: { jetty: cluster(rest.jetty), skerry: cluster(rest.skerry) },
  skyfjord: { ...rest.skyfjord, endpoint: `http://127.0.0.1:${rest.skyfjord.port}` },
  smtpPort: mail.smtpPort,
  receivePort: movers.port,
  organisation: {
    issuer: `http://127.0.0.1:${organisation.port}`,
    clientId: organisation.clientId,
    clientSecret: organisation.clientSecret,
  },
};
await new History(readConfig(configFile), state, standins, (text) => process.stderr.write(`${text}\n`)).live();
process.exit(0);
