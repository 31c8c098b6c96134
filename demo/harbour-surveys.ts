import fs from 'node:fs';
import { S3 } from '@aws-sdk/client-s3';
import type { DateTime } from 'luxon';
import type { Acts } from './harbour-database';
import type { Random } from './harbour/random';
import { nights } from './harbour/story';

/** Where the storage of the surveys is, and what opens it. */
export interface SurveyAccess {
  readonly folder: string;
  readonly endpoint: string;
  readonly accessKey: string;
  readonly secretKey: string;
}

const firstNight = 30;
const bucket = 'sonar-surveys';
const areas = ['berth-14', 'inner-basin', 'north-channel', 'pilot-anchorage', 'turning-circle'] as const;
const vessels = ['Tern', 'Gannet'] as const;
const thursday = 4;
const prices = { currency: 'EUR', perGbMonth: 0.022, perGbRead: 0.01, perThousandLists: 0.005, perThousandReads: 0.0004 };

/** The bucket of the story: sonar surveys, some each day; on the last Thursday somebody who may removes one with all its versions. */
export class HarbourSurveys {
  private readonly s3: S3;
  private day = 0;

  constructor(
    private readonly access: SurveyAccess,
    private readonly random: Random,
    private readonly acts: Acts,
  ) {
    const { endpoint, accessKey, secretKey } = access;
    process.env['AWS_SDK_JS_NODE_VERSION_SUPPORT_WARNING_DISABLED'] = 'true';
    const credentials = { accessKeyId: accessKey, secretAccessKey: secretKey };
    this.s3 = new S3({ endpoint, region: 'us-east-1', forcePathStyle: true, credentials });
  }

  /** What happens by day, and in the evening. */
  async night(night: number, evening: DateTime, targetId: string): Promise<void> {
    if (night < firstNight) return;
    // objects are as old as the story has it
    fs.writeFileSync(`${this.access.folder}/clock`, String(evening.minus({ hours: 5 }).toMillis()));
    if (night === firstNight) {
      for (let n = 24; n > 0; n--) await this.survey(evening.minus({ days: n * 3 }));
      await this.connect(targetId);
    }
    await this.survey(evening);
    if (night >= nights - 7 && evening.weekday === thursday) await this.isRemoved();
    if (night === nights - 1) {
      this.s3.destroy();
      fs.rmSync(`${this.access.folder}/clock`);
    }
  }

  private async connect(targetId: string): Promise<void> {
    const { endpoint, accessKey, secretKey } = this.access;
    const { workloads } = await this.acts.call('eva.vind', 'addSystem', {
      name: 'Survey storage',
      location: 'Lighthouse station',
      address: { kind: 'bucket', endpoint, accessKey, versions: true, prices },
      secret: secretKey,
    });
    await this.acts.call('eva.vind', 'addPolicy', {
      zone: this.acts.zone,
      name: 'Surveys',
      workloads,
      tags: [],
      objectiveHours: 26,
      changeLimit: 60,
      rules: [{ no: 1, kind: 'incremental', schedule: { every: 'day', at: '23:00' }, keep: { by: 'days', days: 30 }, targetId }],
    });
  }

  /** Lines of one area, with what was seen in words. */
  private async survey(on: DateTime): Promise<void> {
    const { random } = this;
    const area = areas[this.day++ % areas.length]!;
    const vessel = random.pick(vessels);
    const below = `${on.year}/${on.toFormat('MM-dd')} ${area}`;
    const put = (name: string, Body: string | Buffer, ContentType: string) =>
      this.s3.putObject({
        ...{ Bucket: bucket, Key: `${below}/${name}`, Body, ContentType, Metadata: { vessel } },
        Tagging: `area=${area}&kind=survey`,
      });
    const depth = random.int(9, 18);
    for (let line = 1; line <= 4; line++) {
      const samples = Buffer.alloc(random.int(12_000, 40_000));
      for (let i = 0; i < samples.length; i++) samples[i] = depth * 10 + random.int(-6, 6);
      await put(`line ${String(line).padStart(2, '0')}.son`, samples, 'application/octet-stream');
    }
    const index = Array.from({ length: this.day }, (_, n) => `${n + 1},${areas[n % areas.length]!}`).join('\n');
    await this.s3.putObject({ Bucket: bucket, Key: 'index.csv', Body: index, ContentType: 'text/csv', Metadata: { vessel } });
    // notes of the day are written, and deleted once they are in the report
    await put('notes.tmp', `tide ${random.int(-4, 30) / 10} m, wind ${random.int(2, 14)} m/s\n`, 'text/plain');
    await this.s3.deleteObject({ Bucket: bucket, Key: `${below}/notes.tmp` });
    await put('seen.txt', `${area}, ${vessel}: least depth ${depth - 1}.${random.int(0, 9)} m\n`, 'text/plain; charset=utf-8');
  }

  private async isRemoved(): Promise<void> {
    const { CommonPrefixes = [] } = await this.s3.listObjectsV2({ Bucket: bucket, Delimiter: ' ', Prefix: '' });
    for (const { Prefix = '' } of CommonPrefixes.slice(-2, -1)) {
      const { Versions = [] } = await this.s3.listObjectVersions({ Bucket: bucket, Prefix });
      for (const { Key = '', VersionId } of Versions) await this.s3.deleteObject({ Bucket: bucket, Key, VersionId });
    }
  }
}
