import { z } from 'zod';
import { Count, EscapedPath, Instant, Name, Uuid } from './common';
import { PaceWindow, ShownPlace } from './estate';
import { MailServer, NoticeAbout, NoticeWay } from './notices';
import { Platform } from './platform';
import { PolicyBody, PolicyRule, rulesOf, withRules } from './policy';
import { PriceTable } from './prices';
import { Role } from './roles';
import { InstallationBody } from './overview';
import { Share } from './shares';
import { SequenceBody, SequenceStep } from './sequences';
import { StandingBody } from './standing';

/** Workloads are named here, as their numbers mean nothing elsewhere. */
const NamedWorkloads = z.array(Name);

/** The settings of an installation as they are kept on its targets: all but what opens something, and passwords. */
export const Settings = z.object({
  format: z.literal(1),
  sources: z.array(
    z.object({
      name: Name,
      folder: EscapedPath,
      location: z.string(),
      readAs: z.string().nullable(),
      crossFileSystems: z.boolean(),
      wholeServer: z.boolean().default(false),
      readBy: z.string().nullable().default(null),
      readers: Count.nullable(),
      tags: z.array(Name),
    }),
  ),
  targets: z.array(
    z.object({
      id: Uuid,
      name: Name,
      place: ShownPlace,
      location: z.string(),
      writers: Count.nullable(),
      paces: z.array(PaceWindow),
      prices: PriceTable.nullable(),
    }),
  ),
  policies: z.array(
    z.preprocess(
      withRules,
      PolicyBody.omit({ workloads: true, rules: true }).extend({
        workloads: NamedWorkloads,
        /** `follows`: name of the policy it follows, where it follows one. */
        rules: rulesOf(PolicyRule.extend({ follows: z.string().nullable().default(null) })),
      }),
    ),
  ),
  platforms: z.array(Platform.pick({ name: true, endpoint: true, by: true, account: true })).default([]),
  mail: MailServer.nullable().default(null),
  notices: z
    .array(
      z.object({
        name: Name,
        about: NoticeAbout,
        /** Name of the policy whose runs are told of, where it is one. */
        policy: z.string().nullable(),
        way: NoticeWay,
        paused: z.boolean(),
        /** It has a secret, which is not kept. */
        signed: z.boolean(),
      }),
    )
    .default([]),
  /** What opens them is not kept. */
  shares: z.array(Share.omit({ id: true })).default([]),
  installations: z.array(InstallationBody.omit({ token: true })).default([]),
  /** Restores that are repeated; `folder` is null for those that go to a system. */
  standing: z
    .array(
      StandingBody.pick({ name: true, schedule: true, start: true, reason: true }).extend({
        workloads: NamedWorkloads,
        folder: z.string().nullable(),
        person: z.string(),
      }),
    )
    .default([]),
  /** Restores in their order; `of`: name of the workload, or of the repeated restore. */
  sequences: z
    .array(
      z.object({
        name: Name,
        objective: SequenceBody.shape.objective,
        steps: z.array(SequenceStep.pick({ after: true, wait: true }).extend({ by: z.enum(['workload', 'standing']), of: z.string() })),
        person: z.string(),
      }),
    )
    .default([]),
  holds: z.array(z.object({ pointId: Uuid, why: z.string() })),
  people: z.array(z.object({ name: z.string(), display: z.string(), role: Role, remit: NamedWorkloads.nullable(), disabled: z.boolean() })),
  tasksAtOnce: Count.nullable(),
});
export type Settings = z.infer<typeof Settings>;

/** What is written to one target: the settings, which of their targets it is, and where the audit trail stood. */
export const SettingsRecord = z.object({
  settings: Settings,
  on: Uuid,
  auditHead: z.object({ hash: z.string(), rows: Count }),
});
export type SettingsRecord = z.infer<typeof SettingsRecord>;

export const settingKinds = [
  'source',
  'platform',
  'target',
  'policy',
  'mail server',
  'notice',
  'share',
  'repeated restore',
  'sequence',
  'installation',
  'hold',
  'limit',
  'person',
] as const;
/** What becomes of one of the kept settings when they are taken over. */
export const SettingStep = z.object({
  kind: z.enum(settingKinds),
  name: z.string(),
  effect: z.enum(['add', 'change', 'same', 'leave']),
  why: z.string(),
});
export type SettingStep = z.infer<typeof SettingStep>;

export const KeptSettings = z.object({
  /** When they were written; null when there are none. */
  at: Instant.nullable(),
  /** Rows of the audit trail then, and the sum of the last. */
  auditRows: Count,
  auditHash: z.string(),
  steps: z.array(SettingStep),
});
export type KeptSettings = z.infer<typeof KeptSettings>;

export const TakenSettings = z.object({ added: Count, changed: Count });
