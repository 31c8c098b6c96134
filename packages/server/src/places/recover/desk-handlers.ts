import type { Deps } from '../../acts/deps';
import { changesSince, lookForMissing } from '../../acts/recover/desk-look';
import type { Handlers } from '../../base/http/bind-routes';
import { pathOf } from '../../records/recover/path-of';

/** The restore desk: nobody has to browse for what they can't name. */
export function deskHandlers(deps: Deps): Pick<Handlers, 'deskLook' | 'itemChanges'> {
  return {
    deskLook: ({ body, actor }) => lookForMissing(deps, actor, body),
    itemChanges: ({ params, body, actor }) => changesSince(deps, actor, params.id, { ...body, path: pathOf(body.path) }),
  };
}
