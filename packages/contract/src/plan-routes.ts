import * as plan from './plan';
import { readers } from './roles';
import { route } from './route';

/** What is to come, and how things stand, for people and for programs that watch. */
export const planRoutes = {
  metrics: route({
    method: 'get',
    path: '/metrics',
    summary: 'How things stand, for monitoring (OpenMetrics)',
    access: readers,
    raw: true,
  }),
  nightFit: route({
    method: 'get',
    path: '/plan/night',
    summary: 'How the work of the next 24 hours will go',
    access: readers,
    response: plan.NightFit,
  }),
  runCalendar: route({
    method: 'get',
    path: '/plan/calendar',
    summary: 'The runs to come, day by day',
    access: readers,
    query: plan.CalendarQuery,
    response: plan.RunCalendar,
  }),
  calendarFeed: route({
    method: 'get',
    path: '/plan/calendar.ics',
    summary: 'The same for calendar programs (iCalendar); takes a token as the password of basic authentication too',
    access: readers,
    raw: true,
  }),
};
