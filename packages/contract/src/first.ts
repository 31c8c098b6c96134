import { z } from 'zod';
import { Empty } from './common';
import { NewPerson } from './people';
import { everyRole, keepers } from './roles';
import { route } from './route';
import { SignedIn } from './sign-in';

/** The first administrator of an installation, made with the code that was printed where it was started. */
export const FirstPerson = NewPerson.pick({ name: true, display: true, password: true }).extend({
  code: z.string().min(20).max(100),
  /** Zone of the installation, as the list of time zones names it. */
  zone: z.string().min(1).max(60),
});

export const firstStepNames = ['second', 'target', 'envelope', 'source', 'policy', 'point', 'restore'] as const;
/** What a new installation needs before it can be relied on, in order. */
export const FirstStep = z.object({ name: z.enum(firstStepNames), done: z.boolean(), note: z.string() });
export type FirstStep = z.infer<typeof FirstStep>;
export const FirstSteps = z.object({ steps: z.array(FirstStep), hidden: z.boolean() });
export type FirstSteps = z.infer<typeof FirstSteps>;

/** What is running here. */
export const About = z.object({
  version: z.string(),
  /** Newest change of the tables, and the database that holds them. */
  schema: z.string(),
  database: z.string(),
  node: z.string(),
  system: z.string(),
  /** Of messages to movers: movers of another one get no work. */
  moverLanguage: z.int(),
  /** Heard from lately; one that is not current is to be started again with the version of the server. */
  movers: z.array(z.object({ name: z.string(), current: z.boolean() })),
  zone: z.string(),
  encrypted: z.boolean(),
});
export type About = z.infer<typeof About>;

/** A new installation, and what it is. */
export const firstRoutes = {
  makeFirstPerson: route({
    method: 'post',
    path: '/first',
    summary: 'Make the first administrator, with the code that was printed where the installation was started',
    access: 'anyone',
    body: FirstPerson,
    response: SignedIn,
  }),
  firstSteps: route({
    method: 'get',
    path: '/first-steps',
    summary: 'What a new installation still needs before it can be relied on',
    access: keepers,
    response: FirstSteps,
  }),
  hideFirstSteps: route({
    method: 'put',
    path: '/first-steps/hidden',
    summary: 'Show the first steps no more, or again',
    access: keepers,
    body: z.object({ hidden: z.boolean() }),
    response: Empty,
  }),
  about: route({ method: 'get', path: '/about', summary: 'Versions of what is running here', access: everyRole, response: About }),
} as const;
