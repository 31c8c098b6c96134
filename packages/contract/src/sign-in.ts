import { z } from 'zod';
import { Empty, Id, Instant, Name } from './common';
import { Me, SignIn } from './people';
import { everyRole, keepers, Role } from './roles';
import { byId, route } from './route';

/** A password: how good it is is looked at when it is set. */
export const Password = z.string().min(12).max(200);

/** Signing in is not over yet: what is still missing. */
export const SignInStep = z.object({
  /** second: a second factor is to be shown; enrol: one is to be set up; password: a new password is to be chosen. */
  step: z.enum(['second', 'enrol', 'password']),
  /** Of a second factor: what can be shown. */
  ways: z.array(z.enum(['code', 'passkey', 'recovery'])),
});
export type SignInStep = z.infer<typeof SignInStep>;
export const SignedIn = z.union([Me, SignInStep]);
export type SignedIn = z.infer<typeof SignedIn>;

/** How people can sign in here, for the page that asks them. */
export const SignInWays = z.object({
  organisation: z.string().nullable(),
  selfService: z.boolean(),
  /** Nobody has an account yet: the first is made by the address that was printed where it was started. */
  nobodyYet: z.boolean(),
});

/** What a browser gives or takes of a passkey, as WebAuthn defines it; checked by who makes sense of it. */
const WebAuthnJson = z.record(z.string(), z.unknown());

export const SecondFactor = z.discriminatedUnion('by', [
  z.object({ by: z.literal('code'), code: z.string().regex(/^\d{6}$/, 'six digits') }),
  z.object({ by: z.literal('recovery'), code: z.string().min(8).max(40) }),
  z.object({ by: z.literal('passkey'), response: WebAuthnJson }),
]);
export type SecondFactor = z.infer<typeof SecondFactor>;

/** A secret for codes that is not in force yet: as an address for programs that make codes, and as a picture of it (SVG). */
export const CodeOffer = z.object({ address: z.string(), secret: z.string(), picture: z.string() });
export type CodeOffer = z.infer<typeof CodeOffer>;
/** Codes that each work once in the place of a second factor; shown once. */
export const RecoveryCodes = z.object({ recovery: z.array(z.string()) });

export const OwnSession = z.object({
  id: z.string(),
  /** This one. */
  own: z.boolean(),
  address: z.string(),
  agent: z.string(),
  since: Instant.nullable(),
  seen: Instant.nullable(),
});
export type OwnSession = z.infer<typeof OwnSession>;

/** How somebody signs in. */
export const OwnAccount = z.object({
  /** Signs in by the organisation, so there is no password here. */
  organisation: z.boolean(),
  code: z.boolean(),
  /** How many recovery codes are left. */
  recoveryLeft: z.int(),
  passkeys: z.array(z.object({ id: Id, name: z.string(), createdAt: Instant, usedAt: Instant.nullable() })),
  /** Their role asks for a second factor. */
  needed: z.boolean(),
  sessions: z.array(OwnSession),
});
export type OwnAccount = z.infer<typeof OwnAccount>;

/** Which groups of the organisation become what here; the first that somebody is in counts. */
export const GroupRole = z.object({
  group: z.string().min(1).max(200),
  role: Role,
  /** Workloads a clerk may act for. */
  remit: z.array(Id).max(1000).nullable().default(null),
});
export const OrganisationBody = z.object({
  /** As the button says it. */
  name: Name,
  issuer: z.url({ protocol: /^https?$/ }).max(300),
  clientId: z.string().min(1).max(200),
  /** Left out it stays as it is, for the same issuer and client. */
  clientSecret: z.string().min(1).max(400).optional(),
  groupsClaim: z.string().min(1).max(100).default('groups'),
  groups: z.array(GroupRole).max(200),
  /** Whoever is in one of the groups gets an account when they sign in first. */
  newPeople: z.boolean().default(true),
});
export const SignInRules = z.object({
  /** Roles that need a second factor. */
  secondFor: z.array(Role).max(4),
  /** Minutes without anything being done after which a session ends. */
  idleMinutes: z.int().min(5).max(720),
  /** People of an office tenant may sign in by their mailbox and bring back what is their own. */
  selfService: z.boolean().default(false),
});
export const SignInSettings = SignInRules.extend({
  organisation: OrganisationBody.omit({ clientSecret: true }).extend({ secretKept: z.boolean() }).nullable(),
});
export type SignInSettings = z.infer<typeof SignInSettings>;

export const ResetLink = z.object({ path: z.string(), until: Instant });

/** Signing in, and how one does it. */
export const signInRoutes = {
  signInWays: route({ method: 'get', path: '/session/ways', summary: 'How people can sign in', access: 'anyone', response: SignInWays }),
  signIn: route({ method: 'post', path: '/session', summary: 'Sign in', access: 'anyone', body: SignIn, response: SignedIn }),
  showSecond: route({
    method: 'post',
    path: '/session/second',
    summary: 'Show a second factor, after the password',
    access: 'anyone',
    body: SecondFactor,
    response: SignedIn,
  }),
  askPasskey: route({
    method: 'post',
    path: '/session/passkey',
    summary: 'What a browser needs to ask for a passkey, after the password',
    access: 'anyone',
    response: WebAuthnJson,
  }),
  choosePassword: route({
    method: 'post',
    path: '/session/password',
    summary: 'Choose a new password where that is asked for at sign-in',
    access: 'anyone',
    body: z.object({ password: Password }),
    response: SignedIn,
  }),
  resetPassword: route({
    method: 'post',
    path: '/session/reset',
    summary: 'Choose a new password with a link that works once',
    access: 'anyone',
    body: z.object({ code: z.string().min(20).max(100), password: Password }),
    response: Empty,
  }),
  goToOrganisation: route({
    method: 'get',
    path: '/session/organisation',
    summary: 'Go to where the organisation lets people sign in',
    access: 'anyone',
    raw: true,
  }),
  backFromOrganisation: route({
    method: 'get',
    path: '/session/organisation/back',
    summary: 'Come back from there, signed in',
    access: 'anyone',
    raw: true,
  }),
  me: route({ method: 'get', path: '/session', summary: 'Who is signed in', access: everyRole, response: Me }),
  signOut: route({ method: 'delete', path: '/session', summary: 'Sign out', access: everyRole, response: Empty }),
  confirm: route({
    method: 'post',
    path: '/session/confirm',
    summary: 'Show once more who one is, before secrets and people are changed',
    access: everyRole,
    body: z.discriminatedUnion('by', [
      ...SecondFactor.options,
      z.object({ by: z.literal('password'), password: z.string().min(1).max(200) }),
    ]),
    response: Empty,
  }),
  ownAccount: route({ method: 'get', path: '/account', summary: 'How one signs in oneself', access: everyRole, response: OwnAccount }),
  changePassword: route({
    method: 'post',
    path: '/account/password',
    summary: 'Change the own password; other sessions end',
    access: everyRole,
    body: z.object({ old: z.string().min(1).max(200), password: Password }),
    response: Empty,
  }),
  offerCode: route({
    method: 'post',
    path: '/account/code',
    summary: 'A new secret for codes, in force once a code made from it was shown',
    access: 'anyone',
    response: CodeOffer,
  }),
  takeCode: route({
    method: 'post',
    path: '/account/code/confirm',
    summary: 'Put the offered secret in force by a code made from it',
    access: 'anyone',
    body: z.object({ code: z.string().regex(/^\d{6}$/, 'six digits') }),
    response: RecoveryCodes.extend({ signedIn: SignedIn.nullable() }),
  }),
  dropCode: route({
    method: 'delete',
    path: '/account/code',
    confirmed: true,
    summary: 'Do without codes',
    access: everyRole,
    response: Empty,
  }),
  newRecoveryCodes: route({
    method: 'post',
    path: '/account/recovery',
    confirmed: true,
    summary: 'New recovery codes in the place of the old ones; shown once',
    access: everyRole,
    response: RecoveryCodes,
  }),
  offerPasskey: route({
    method: 'post',
    path: '/account/passkeys/offer',
    summary: 'What a browser needs to make a passkey',
    access: 'anyone',
    response: WebAuthnJson,
  }),
  takePasskey: route({
    method: 'post',
    path: '/account/passkeys',
    summary: 'Keep a passkey that a browser made',
    access: 'anyone',
    body: z.object({ name: Name, response: WebAuthnJson }),
    response: z.object({ signedIn: SignedIn.nullable() }),
  }),
  dropPasskey: route({
    method: 'delete',
    path: '/account/passkeys/:id',
    confirmed: true,
    summary: 'Do without a passkey',
    access: everyRole,
    params: byId,
    response: Empty,
  }),
  endOtherSessions: route({
    method: 'delete',
    path: '/account/sessions',
    summary: 'Sign out everywhere else',
    access: everyRole,
    response: Empty,
  }),
  signInSettings: route({
    method: 'get',
    path: '/sign-in',
    summary: 'What signing in takes here',
    access: ['administrator', 'auditor'],
    response: SignInSettings,
  }),
  setSignInRules: route({
    method: 'put',
    path: '/sign-in',
    confirmed: true,
    summary: 'Say which roles need a second factor, and when sessions end',
    access: keepers,
    body: SignInRules,
    response: Empty,
  }),
  setOrganisation: route({
    method: 'put',
    path: '/sign-in/organisation',
    confirmed: true,
    summary: 'Let people sign in by the organisation; what answers there is asked first',
    access: keepers,
    body: OrganisationBody,
    response: Empty,
  }),
  dropOrganisation: route({
    method: 'delete',
    path: '/sign-in/organisation',
    confirmed: true,
    summary: 'Let nobody sign in by the organisation any more',
    access: keepers,
    response: Empty,
  }),
  resetPerson: route({
    method: 'post',
    path: '/people/:id/reset',
    confirmed: true,
    summary: 'A link that works once, by which a person chooses a new password; their second factor goes if wished',
    access: keepers,
    params: byId,
    body: z.object({ second: z.boolean().default(false) }),
    response: ResetLink,
  }),
} as const;
