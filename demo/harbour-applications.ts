import fs from 'node:fs';
import type { DateTime } from 'luxon';
import type { Acts } from './harbour-database';
import { berthPortal, clusterParts, tideBoard } from './harbour/applications';
import type { Random } from './harbour/random';
import { nights } from './harbour/story';

/** Where a cluster of the harbour is, and what opens it. */
export interface ClusterAccess {
  readonly folder: string;
  readonly endpoint: string;
  readonly token: string;
}

const firstNight = nights - 7;
const domain = 'kelmar-harbour.example';

/** The two clusters of the story: what runs on jetty is protected, and can move to skerry by rewrites that are defined there. */
export class HarbourApplications {
  constructor(
    private readonly access: { readonly jetty: ClusterAccess; readonly skerry: ClusterAccess },
    private readonly random: Random,
    private readonly acts: Acts,
  ) {}

  /** What happens by day, and in the evening. */
  async night(night: number, evening: DateTime, targetId: string): Promise<void> {
    if (night < firstNight) return;
    const { jetty, skerry } = this.access;
    if (night === firstNight) {
      await this.put(jetty, clusterParts('jetty', 'pier-east', ['basin-fast', 'basin-slow'], 3));
      await this.put(skerry, clusterParts('skerry', 'rock', ['rock-block'], 2));
      await this.put(jetty, [...tideBoard(domain), ...berthPortal(domain)]);
    }
    const tides = await this.folderOf('tide-board', 'tide-data');
    for (let hour = 0; hour < 24; hour++) {
      const at = evening.minus({ hours: 24 - hour });
      fs.appendFileSync(`${tides}/levels.csv`, `${at.toISO()},kelmar,${this.random.int(20, 390) / 100}\n`);
    }
    fs.mkdirSync(`${tides}/boards`, { recursive: true });
    fs.writeFileSync(
      `${tides}/boards/${evening.toFormat('yyyy-MM-dd')}.html`,
      `<h1>Tides of ${evening.toFormat('d LLL')}</h1>\n${'<p>high water</p>\n'.repeat(this.random.int(200, 900))}`,
    );
    fs.writeFileSync(`${await this.folderOf('tide-board', 'cache')}/tiles.bin`, Buffer.alloc(180_000, night));
    fs.writeFileSync(
      `${await this.folderOf('berth-portal', 'uploads-portal-0')}/berth-plan-${night}.svg`,
      `<svg>${'<path d="M0 0"/>'.repeat(900)}</svg>`,
    );
    if (night === firstNight) await this.connect(targetId);
  }

  private async connect(targetId: string): Promise<void> {
    const { jetty, skerry } = this.access;
    const address = ({ endpoint }: ClusterAccess, name: string) => ({
      kind: 'application' as const,
      endpoint,
      domains: [`${name}.${domain}`],
    });
    const { workloads } = await this.acts.call('eva.vind', 'addSystem', {
      name: 'jetty',
      location: 'Server room',
      address: address(jetty, 'jetty'),
      secret: jetty.token,
    });
    const rewrites = [
      { kind: 'Ingress', path: 'spec.rules.*.host', from: `jetty.${domain}`, to: `skerry.${domain}` },
      { kind: 'ConfigMap', path: 'data.**', from: `tides.jetty.${domain}`, to: `tides.skerry.${domain}` },
      { kind: 'PersistentVolumeClaim', path: 'spec.storageClassName', from: '', to: 'rock-block' },
      { kind: 'Deployment', path: 'spec.replicas', from: '', to: '2' },
      { kind: 'Deployment', path: 'spec.template.spec.nodeSelector.pier', from: '', to: 'rock' },
    ];
    await this.acts.call('eva.vind', 'addSystem', {
      name: 'skerry',
      location: 'Lighthouse station',
      address: { ...address(skerry, 'skerry'), rewrites: [{ name: 'to the lighthouse', rewrites }] },
      secret: skerry.token,
    });
    await this.acts.call('eva.vind', 'addPolicy', {
      zone: this.acts.zone,
      name: 'Applications',
      workloads,
      tags: [],
      objectiveHours: 26,
      changeLimit: 60,
      rules: [{ no: 1, kind: 'incremental', schedule: { every: 'day', at: '23:20' }, keep: { by: 'days', days: 30 }, targetId }],
    });
  }

  /** Where the volume of a claim on jetty lies. */
  private async folderOf(namespace: string, claim: string): Promise<string> {
    const { jetty } = this.access;
    const answer = await fetch(`${jetty.endpoint}/api/v1/namespaces/${namespace}/persistentvolumeclaims/${claim}`, {
      headers: { authorization: `Bearer ${jetty.token}` },
    });
    const { spec } = (await answer.json()) as { spec: { volumeName: string } };
    return `${jetty.folder}/volumes/${spec.volumeName}`;
  }

  private async put({ endpoint, token }: ClusterAccess, resources: readonly PlacedResource[]): Promise<void> {
    for (const { path, body } of resources) {
      const headers = { authorization: `Bearer ${token}`, 'content-type': 'application/json' };
      const answer = await fetch(`${endpoint}${path}`, { method: 'POST', headers, body: JSON.stringify(body) });
      if (!answer.ok) throw new Error(`the cluster refuses ${path}: ${await answer.text()}`);
    }
  }
}

/** A resource, and where the API takes it. */
export interface PlacedResource {
  readonly path: string;
  readonly body: object;
}
