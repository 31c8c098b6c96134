import type { Deps } from '../../acts/deps';
import type { Handlers } from '../../base/http/bind-routes';
import type { Period } from '../../acts/reports/findings';
import { makeReport } from '../../acts/reports/make-report';
import { reportCsv } from '../../acts/reports/report-csv';

const asked = ({ from, to }: { from?: number | undefined; to?: number | undefined }): Partial<Period> => ({
  ...(from !== undefined && { from }),
  ...(to !== undefined && { to }),
});

export function reportHandlers(deps: Deps): Pick<Handlers, 'report' | 'reportFile'> {
  return {
    report: ({ params, query }) => makeReport(deps, params.id, asked(query)),

    async reportFile({ params, query, res }) {
      const report = await makeReport(deps, params.id, asked(query));
      const days = [report.from, report.to].map((at) => new Date(at).toISOString().slice(0, 10));
      res
        .attachment(`${params.id}-${days.join('-to-')}.csv`)
        .type('text/csv')
        .send(reportCsv(report));
    },
  };
}
