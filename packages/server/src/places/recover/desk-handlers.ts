import type { Deps } from '../../acts/deps';
import { lookForMissing } from '../../acts/recover/desk-look';
import type { Handlers } from '../../base/http/bind-routes';

/** The restore desk: nobody has to browse for what they can't name. */
export function deskHandlers(deps: Deps): Pick<Handlers, 'deskLook'> {
  return { deskLook: ({ body, actor }) => lookForMissing(deps, actor, body) };
}
