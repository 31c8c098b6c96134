import type { Deps } from '../deps';
import type { Handlers } from '../http/bind-routes';
import { calendarFeed, runCalendar } from './calendar';
import { nightFit } from './night-fit';

export function planHandlers(deps: Deps): Pick<Handlers, 'nightFit' | 'runCalendar' | 'calendarFeed'> {
  return {
    nightFit: () => nightFit(deps),
    runCalendar: ({ query }) => runCalendar(deps, query.from, query.to),
    async calendarFeed({ res }) {
      res.type('text/calendar; charset=utf-8').send(await calendarFeed(deps));
      return undefined;
    },
  };
}
