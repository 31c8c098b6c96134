import { AttachedFile } from '@lithodex/kinds';
import { z } from 'zod';
import { AttachedAt } from './attached';
import * as c from './common';
import * as recover from './recover';
import { everyRole, keepers, restorers } from './roles';
import { byId, byUuid, route } from './route';
import { MachineWish } from './running-machine';

/** What is used straight from the store: attached, run, looked into. */
export const straightRoutes = {
  listAttached: route({
    method: 'get',
    path: '/attached',
    summary: 'Disks, volumes and folders of points that are attached now',
    access: everyRole,
    response: z.object({ rows: z.array(recover.Attached) }),
  }),
  attached: route({
    method: 'get',
    path: '/runs/:id/attached',
    summary: 'How what a run has attached is reached, null while it is not there yet; for who asked for it only',
    access: keepers,
    params: byId,
    response: z.object({ at: AttachedAt.nullable(), until: c.Instant }),
  }),
  listRunning: route({
    method: 'get',
    path: '/running',
    summary: 'Machines that run from the store now',
    access: everyRole,
    response: z.object({ rows: z.array(recover.RunningRow) }),
  }),
  steerRunning: route({
    method: 'put',
    path: '/running/:id',
    summary: 'Say what becomes of a machine that runs from the store: copied, cut over, dropped',
    access: keepers,
    params: byUuid,
    body: MachineWish,
    response: c.Empty,
  }),
  preview: route({
    method: 'get',
    path: '/points/:id/preview',
    summary: 'The front of a file of a point, to be looked at; recorded in the audit trail',
    access: restorers,
    params: byUuid,
    query: recover.PreviewQuery,
    response: recover.FilePreview,
  }),
  attachment: route({
    method: 'get',
    path: '/points/:id/attachment',
    summary: 'One attachment of a message of a point, base64; recorded in the audit trail',
    access: keepers,
    params: byUuid,
    query: recover.AttachmentQuery,
    response: AttachedFile,
  }),
};
