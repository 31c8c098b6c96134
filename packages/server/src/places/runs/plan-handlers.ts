import type { Deps } from '../../acts/deps';
import type { Handlers } from '../../base/http/bind-routes';
import { metricsText } from '../../acts/watch/metrics';
import { calendarFeed, runCalendar } from './calendar';
import { nightFit } from '../../acts/plan/night-fit';

export function planHandlers(deps: Deps): Pick<Handlers, 'nightFit' | 'runCalendar' | 'calendarFeed' | 'metrics'> {
  return {
    async metrics({ res }) {
      const { type, text } = await metricsText(deps);
      res.type(type).send(text);
      return undefined;
    },
    nightFit: () => nightFit(deps),
    runCalendar: ({ query }) => runCalendar(deps, query.from, query.to),
    async calendarFeed({ res }) {
      res.type('text/calendar; charset=utf-8').send(await calendarFeed(deps));
      return undefined;
    },
  };
}
