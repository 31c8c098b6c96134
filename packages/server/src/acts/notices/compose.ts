import { formatCount, countOf, formatDuration, formatMoment } from '@lithodex/core';
import { reportTitles, type FoundMatter, type Report, type RunState, type Watch } from '@lithodex/contract';

/** A message before it is sent: plain text for people, data for programs. */
export interface Draft {
  readonly subject: string;
  readonly body: string;
  readonly data: Readonly<Record<string, unknown>>;
  readonly attachment: { readonly name: string; readonly text: string } | null;
}

/** Where times are read and where links lead; '' for no links. */
export interface Telling {
  readonly zone: string;
  readonly links: string;
}

const longest = 250;
/** One line, as subjects are. */
const line = (text: string) => text.replace(/\s+/g, ' ').slice(0, longest);
const linkTo = ({ links }: Telling, path: string) => (links ? `${links.replace(/\/$/, '')}${path}` : '');
const paragraphs = (...parts: readonly string[]) => `${parts.filter(Boolean).join('\n\n')}\n`;

export function composeMatter(matter: FoundMatter, telling: Telling): Draft {
  const { id, level, title, text, since, action } = matter;
  const query = new URLSearchParams(action.query).toString();
  const link = linkTo(telling, `${action.link}${query && `?${query}`}`);
  return {
    subject: line(title),
    body: paragraphs(text, `Since ${formatMoment(since, telling.zone)}, ${telling.zone}.`, link && `${action.label}: ${link}`),
    data: { kind: 'matter', id, level, title, text, since, link },
    attachment: null,
  };
}

/** What a message says of a run that ended. */
export interface EndedRun {
  readonly id: number;
  readonly name: string;
  readonly state: RunState;
  readonly startedAt: number | null;
  readonly endedAt: number;
  readonly workloads: number;
  /** Of workloads that did not simply end well. */
  readonly remarks: readonly { readonly workload: string; readonly state: RunState; readonly cause: string; readonly remedy: string }[];
}

const stateWords: Partial<Record<RunState, string>> = {
  remarks: 'done with remarks',
  partsMissing: 'parts missing',
  cutOff: 'cut off by its window',
  notStarted: 'not started in time',
};
const wordOf = (state: RunState) => stateWords[state] ?? state;
const mostRemarks = 25;

export function composeRun(run: EndedRun, telling: Telling): Draft {
  const { id, name, state, startedAt, endedAt, workloads, remarks } = run;
  const took = startedAt === null ? '' : ` in ${formatDuration(endedAt - startedAt)}`;
  const link = linkTo(telling, `/runs/${id}`);
  const told = remarks.slice(0, mostRemarks).map((r) => `${r.workload}: ${wordOf(r.state)}. ${r.cause} ${r.remedy}`.trim());
  const more = remarks.length > told.length ? [`and ${remarks.length - told.length} more`] : [];
  return {
    subject: line(`${name}: ${wordOf(state)}`),
    body: paragraphs(
      `Run ${id} over ${countOf(workloads, 'workload')} ended ${formatMoment(endedAt, telling.zone)}, ${telling.zone}${took}: ${wordOf(state)}.`,
      [...told, ...more].join('\n'),
      link && `The run: ${link}`,
    ),
    data: { kind: 'run', id, name, state, startedAt, endedAt, workloads, remarks, link },
    attachment: null,
  };
}

/** What a digest tells of. */
export interface Morning {
  readonly at: number;
  readonly lead: Watch['lead'];
  readonly matters: readonly FoundMatter[];
  readonly coming: Watch['coming'];
  /** Head of the audit trail: outside of the installation it is a witness of what there was. */
  readonly audit: { readonly rows: number; readonly hash: string };
}

export function composeDigest({ at, lead, matters, coming, audit }: Morning, telling: Telling): Draft {
  const day = formatMoment(at, telling.zone).slice(0, -6);
  const night = lead.all
    ? `Last night ${lead.protected} of ${countOf(lead.all, 'workload')} were protected.`
    : 'Nothing was due last night.';
  const rest = lead.parts.map((p) => p.text).join(', ');
  const link = linkTo(telling, '/watch');
  return {
    subject: line(`${day}: ${lead.protected} of ${lead.all} protected, ${countOf(matters.length, 'matter')}`),
    body: paragraphs(
      `${night}${rest && ` ${rest}.`}`,
      matters.length ? matters.map((m) => `- ${m.title}: ${m.text}`).join('\n') : 'Nothing needs a person.',
      coming.length
        ? `Coming, if nothing changes:\n${coming.map((c) => `- ${formatMoment(c.at, telling.zone)}: ${c.text}`).join('\n')}`
        : '',
      link && `Watch: ${link}`,
      `Audit trail: ${formatCount(audit.rows)} rows, the last one with the sum ${audit.hash}.`,
    ),
    data: {
      kind: 'digest',
      audit,
      at,
      protected: lead.protected,
      all: lead.all,
      matters: matters.map(({ id, level, title }) => ({ id, level, title })),
      link,
    },
    attachment: null,
  };
}

export function composeReport(report: Report, csv: string, telling: Telling): Draft {
  const { name, from, to, says } = report;
  const days = `${formatMoment(from, telling.zone, to).slice(0, -6)} to ${formatMoment(to, telling.zone).slice(0, -6)}`;
  const link = linkTo(telling, `/reports?report=${name}&from=${from}&to=${to}`);
  return {
    subject: line(`${reportTitles[name]}, ${days}`),
    body: paragraphs(says, 'The rows are attached as CSV.', link && `On screen: ${link}`),
    data: { kind: 'report', name, from, to, says, link },
    attachment: { name: `${name}-${new Date(to).toISOString().slice(0, 10)}.csv`, text: csv },
  };
}

export const composeTrial = (name: string): Draft => ({
  subject: line(`Trial of “${name}”`),
  body: paragraphs('This message was sent by hand to see whether it arrives. Nothing has happened.'),
  data: { kind: 'trial', name },
  attachment: null,
});
