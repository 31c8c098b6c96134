import { existsSync, readFileSync } from 'node:fs';
import { BucketService, rights } from './bucket/service';
import { CloudService } from './cloud/service';
import { everythingAllowed } from './cluster/rights';
import { ClusterService } from './cluster/service';
import { libraryFine } from './library/library';
import { LibraryService } from './library/service';
import { MailService } from './mail/service';
import { OrganisationService, type OrganisationOptions } from './organisation/service';
import { PlatformService } from './platform/service';
import { TenantService, type TenantServiceOptions } from './tenant/service';

interface Settings {
  readonly bucket: {
    readonly folder: string;
    readonly port: number;
    readonly accessKey: string;
    readonly secretKey: string;
    readonly buckets: readonly { readonly name: string; readonly lock: boolean }[];
  };
  readonly library: {
    readonly folder: string;
    readonly port: number;
    readonly token: string;
    readonly drives: number;
    readonly slots: number;
    readonly loadMs: number;
    /** Barcodes of the cartridges it starts with, and bytes of each. */
    readonly cartridges: readonly string[];
    readonly capacity: number;
  };
  readonly platform: { readonly folder: string; readonly port: number };
  readonly mail: { readonly folder: string; readonly port: number; readonly smtpPort: number };
  readonly organisation: OrganisationOptions;
  readonly office: TenantServiceOptions;
  /** A storage of somebody else, whose buckets keep versions; while a story is told, a file `clock` in its folder says the time, ms. */
  readonly surveys: {
    readonly folder: string;
    readonly port: number;
    readonly accessKey: string;
    readonly secretKey: string;
    readonly buckets: readonly string[];
  };
  readonly jetty: ClusterSettings;
  readonly skerry: ClusterSettings;
  readonly skyfjord: { readonly folder: string; readonly port: number };
}

interface ClusterSettings {
  readonly folder: string;
  readonly port: number;
  readonly token: string;
}

/** The stand-ins as a process of their own: usage `standins SETTINGS`, a JSON file. Tells its parent when it is ready. */
const settings = JSON.parse(readFileSync(process.argv[2]!, 'utf8')) as Settings;
const { accessKey, secretKey } = settings.bucket;
const bucket = new BucketService({
  ...settings.bucket,
  accounts: [{ accessKey, secretKey, rights: rights.filter((r) => r !== 'bypass') }],
});
await bucket.start();
for (const { name, lock } of settings.bucket.buckets) bucket.makeBucket(name, lock);
const { surveys } = settings;
const clock = `${surveys.folder}/clock`;
const storage = new BucketService({
  ...surveys,
  accounts: [{ accessKey: surveys.accessKey, secretKey: surveys.secretKey, rights }],
  now: () => (existsSync(clock) ? Number(readFileSync(clock, 'utf8')) : Date.now()),
});
await storage.start();
for (const name of surveys.buckets) storage.makeBucket(name, false, true);
const library = new LibraryService(settings.library);
await library.start();
library.library.switches = { ...libraryFine, loadMs: settings.library.loadMs };
for (const barcode of settings.library.cartridges) library.library.addNew(barcode, settings.library.capacity);
const platform = new PlatformService(settings.platform);
await platform.start();
const mail = new MailService(settings.mail);
await mail.start();
const organisation = new OrganisationService(settings.organisation);
await organisation.start();
const office = new TenantService({ ...settings.office, keeps: true });
await office.start();
const clusters = [settings.jetty, settings.skerry].map(
  ({ token, ...rest }) => new ClusterService({ ...rest, accounts: [{ token, rules: everythingAllowed }], keeps: true }),
);
for (const cluster of clusters) await cluster.start();
const cloud = new CloudService(settings.skyfjord);
await cloud.start();
process.send?.('ready');
for (const signal of ['SIGINT', 'SIGTERM'] as const)
  process.on(
    signal,
    () =>
      void Promise.all([
        bucket.stop(),
        storage.stop(),
        library.stop(),
        platform.stop(),
        mail.stop(),
        organisation.stop(),
        office.stop(),
        ...clusters.map((cluster) => cluster.stop()),
        cloud.stop(),
      ]).then(() => process.exit(0)),
  );
