import { routes, type Route, type RouteName } from '@lithodex/contract';

const byBrowser = 'it is a step of signing in by a browser; the command line has a token (profile sign-in)';
const own: Partial<Record<RouteName, string>> = {
  events: 'it is a stream of changes for screens; "runs follow" and "runs log --follow" wait for what happens',
  signIn: byBrowser,
  showSecond: byBrowser,
  askPasskey: byBrowser,
  choosePassword: byBrowser,
  resetPassword: byBrowser,
  goToOrganisation: byBrowser,
  backFromOrganisation: byBrowser,
  signOut: 'a token is no session; "tokens remove" withdraws one',
  confirm: 'only a session shows once more who it is',
  ownAccount: 'a token has no account of its own',
  changePassword: 'a token has no account of its own',
  offerCode: byBrowser,
  takeCode: byBrowser,
  dropCode: 'a token has no account of its own',
  newRecoveryCodes: 'a token has no account of its own',
  offerPasskey: byBrowser,
  takePasskey: byBrowser,
  dropPasskey: 'a token has no account of its own',
  endOtherSessions: 'a token is no session',
  makeFirstPerson: 'it is the page that the printed address opens',
};

/** Why a route is not called from the command line; undefined where it is. */
export function unasked(name: RouteName): string | undefined {
  const { access, path }: Route = routes[name];
  if (own[name] !== undefined) return own[name];
  if (access === 'mover' || name === 'joinMover' || name === 'askToJoin') return 'movers call it';
  if (access === 'asker' || path.startsWith('/own/')) return 'people who sign in for themselves only call it, by a link';
  return undefined;
}
