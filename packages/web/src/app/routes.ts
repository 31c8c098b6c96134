import { inject } from '@angular/core';
import { Router, type CanActivateFn, type Routes } from '@angular/router';
import { map } from 'rxjs';
import { Session } from './data/session';

const signedIn: CanActivateFn = (_route, state) => {
  const router = inject(Router);
  return inject(Session)
    .check()
    .pipe(map((yes) => yes || router.createUrlTree(['/sign-in'], { queryParams: { next: state.url } })));
};

const home: CanActivateFn = () => inject(Router).createUrlTree([inject(Session).reads() ? '/watch' : '/estate']);

export const routes: Routes = [
  { path: 'sign-in', title: 'Sign in · Lithodex', loadComponent: () => import('./signin/sign-in').then((m) => m.SignIn) },
  { path: 'reset', title: 'New password · Lithodex', loadComponent: () => import('./signin/reset-page').then((m) => m.ResetPage) },
  { path: 'begin', title: 'Begin · Lithodex', loadComponent: () => import('./signin/begin-page').then((m) => m.BeginPage) },
  { path: 'own', title: 'What you miss · Lithodex', loadComponent: () => import('./own/own-page').then((m) => m.OwnPage) },
  {
    path: '',
    canActivate: [signedIn],
    loadComponent: () => import('./shell/shell').then((m) => m.Shell),
    children: [
      { path: '', pathMatch: 'full', canActivate: [home], children: [] },
      { path: 'watch', title: 'Watch · Lithodex', loadComponent: () => import('./watch/watch-page').then((m) => m.WatchPage) },
      {
        path: 'watch/installations',
        title: 'Installations · Lithodex',
        loadComponent: () => import('./watch/installations-page').then((m) => m.InstallationsPage),
      },
      { path: 'estate', title: 'Estate · Lithodex', loadComponent: () => import('./estate/estate-page').then((m) => m.EstatePage) },
      {
        path: 'estate/platforms/:id',
        title: 'Platform · Lithodex',
        loadComponent: () => import('./estate/platform-page').then((m) => m.PlatformPage),
      },
      {
        path: 'estate/systems/:id',
        title: 'Database server · Lithodex',
        loadComponent: () => import('./estate/system-page').then((m) => m.SystemPage),
      },
      {
        path: 'estate/tenants/:id',
        title: 'Office tenant · Lithodex',
        loadComponent: () => import('./estate/tenant-page').then((m) => m.TenantPage),
      },
      {
        path: 'estate/storages/:id',
        title: 'Object storage · Lithodex',
        loadComponent: () => import('./estate/object-storage-page').then((m) => m.ObjectStoragePage),
      },
      {
        path: 'estate/file-servers/:id',
        title: 'File server · Lithodex',
        loadComponent: () => import('./estate/file-server-page').then((m) => m.FileServerPage),
      },
      {
        path: 'estate/clusters/:id',
        title: 'Cluster · Lithodex',
        loadComponent: () => import('./estate/cluster-page').then((m) => m.ClusterPage),
      },
      {
        path: 'estate/:id/resource',
        title: 'Then and now · Lithodex',
        loadComponent: () => import('./recover/resource-page').then((m) => m.ResourcePage),
      },
      {
        path: 'estate/:id/move',
        title: 'To a cluster · Lithodex',
        loadComponent: () => import('./recover/move-page').then((m) => m.MovePage),
      },
      {
        path: 'estate/:id/second',
        title: 'To the second · Lithodex',
        loadComponent: () => import('./recover/second-page').then((m) => m.SecondPage),
      },
      {
        path: 'estate/:id/ready',
        title: 'Ready? · Lithodex',
        loadComponent: () => import('./estate/ready-page').then((m) => m.ReadyPage),
      },
      {
        path: 'estate/:id',
        title: 'Workload · Lithodex',
        loadComponent: () => import('./estate/workload-page').then((m) => m.WorkloadPage),
      },
      {
        path: 'policies',
        title: 'Policies · Lithodex',
        loadComponent: () => import('./policies/policies-page').then((m) => m.PoliciesPage),
      },
      {
        path: 'policies/calendar',
        title: 'Calendar · Lithodex',
        loadComponent: () => import('./policies/calendar-page').then((m) => m.CalendarPage),
      },
      { path: 'policies/:id', title: 'Policy · Lithodex', loadComponent: () => import('./policies/policy-page').then((m) => m.PolicyPage) },
      { path: 'runs', title: 'Runs · Lithodex', loadComponent: () => import('./runs/runs-page').then((m) => m.RunsPage) },
      { path: 'runs/movers', title: 'Movers · Lithodex', loadComponent: () => import('./runs/movers-page').then((m) => m.MoversPage) },
      { path: 'runs/:id', title: 'Run · Lithodex', loadComponent: () => import('./runs/run-page').then((m) => m.RunPage) },
      {
        path: 'estate/:id/difference',
        title: 'Two points · Lithodex',
        loadComponent: () => import('./estate/difference-page').then((m) => m.DifferencePage),
      },
      { path: 'runs/:id/rows', title: 'Rows · Lithodex', loadComponent: () => import('./recover/rows-page').then((m) => m.RowsPage) },
      {
        path: 'runs/:id/inside',
        title: 'Inside · Lithodex',
        loadComponent: () => import('./recover/inside-page').then((m) => m.InsidePage),
      },
      { path: 'recover', title: 'Recover · Lithodex', loadComponent: () => import('./recover/recover-page').then((m) => m.RecoverPage) },
      {
        path: 'recover/changes',
        title: 'Then and now · Lithodex',
        loadComponent: () => import('./recover/changes-page').then((m) => m.ChangesPage),
      },
      {
        path: 'recover/desk',
        title: 'Restore desk · Lithodex',
        loadComponent: () => import('./recover/desk-page').then((m) => m.DeskPage),
      },
      {
        path: 'recover/list',
        title: 'A list of paths · Lithodex',
        loadComponent: () => import('./recover/paths-page').then((m) => m.PathsPage),
      },
      {
        path: 'recover/attached',
        title: 'Attached · Lithodex',
        loadComponent: () => import('./recover/attached-page').then((m) => m.AttachedPage),
      },
      {
        path: 'recover/running',
        title: 'Running from the store · Lithodex',
        loadComponent: () => import('./recover/running-page').then((m) => m.RunningPage),
      },
      {
        path: 'recover/units',
        title: 'Units · Lithodex',
        loadComponent: () => import('./recover/units-page').then((m) => m.UnitsPage),
      },
      {
        path: 'recover/rebuild',
        title: 'Rebuild · Lithodex',
        loadComponent: () => import('./recover/rebuild-page').then((m) => m.RebuildPage),
      },
      {
        path: 'recover/standing',
        title: 'Repeated restores · Lithodex',
        loadComponent: () => import('./recover/standing-page').then((m) => m.StandingPage),
      },
      {
        path: 'recover/sequences',
        title: 'Sequences · Lithodex',
        loadComponent: () => import('./sequences/sequences-page').then((m) => m.SequencesPage),
      },
      {
        path: 'recover/sequences/went/:id',
        title: 'How a sequence went · Lithodex',
        loadComponent: () => import('./sequences/sequence-run-page').then((m) => m.SequenceRunPage),
      },
      {
        path: 'recover/sequences/:id',
        title: 'Sequence · Lithodex',
        loadComponent: () => import('./sequences/sequence-edit-page').then((m) => m.SequenceEditPage),
      },
      {
        path: 'recover/shares',
        title: 'Shares · Lithodex',
        loadComponent: () => import('./recover/shares-page').then((m) => m.SharesPage),
      },
      {
        path: 'recover/sheet',
        title: 'Restore sheet · Lithodex',
        loadComponent: () => import('./recover/sheet-page').then((m) => m.SheetPage),
      },
      { path: 'storage', title: 'Storage · Lithodex', loadComponent: () => import('./storage/storage-page').then((m) => m.StoragePage) },
      { path: 'storage/:id', title: 'Target · Lithodex', loadComponent: () => import('./storage/target-page').then((m) => m.TargetPage) },
      { path: 'reports', title: 'Reports · Lithodex', loadComponent: () => import('./reports/reports-page').then((m) => m.ReportsPage) },
      {
        path: 'reports/notices',
        title: 'Notices · Lithodex',
        loadComponent: () => import('./reports/notices-page').then((m) => m.NoticesPage),
      },
      { path: 'trust', title: 'What changed · Lithodex', loadComponent: () => import('./trust/changes-page').then((m) => m.ChangesPage) },
      {
        path: 'trust/scans',
        title: 'What was scanned · Lithodex',
        loadComponent: () => import('./trust/scans-page').then((m) => m.ScansPage),
      },
      {
        path: 'trust/traces',
        title: 'Traces · Lithodex',
        loadComponent: () => import('./trust/traces-page').then((m) => m.TracesPage),
      },
      {
        path: 'trust/sensitive',
        title: 'What is sensitive · Lithodex',
        loadComponent: () => import('./trust/sensitive-page').then((m) => m.SensitivePage),
      },
      { path: 'trust/drills', title: 'Drills · Lithodex', loadComponent: () => import('./trust/drills-page').then((m) => m.DrillsPage) },
      {
        path: 'trust/drills/:id',
        title: 'Evidence of a drill · Lithodex',
        loadComponent: () => import('./trust/drill-evidence-page').then((m) => m.DrillEvidencePage),
      },
      {
        path: 'trust/strike',
        title: 'Strike it out · Lithodex',
        loadComponent: () => import('./trust/strike-page').then((m) => m.StrikePage),
      },
      { path: 'trust/acts', title: 'Who did what · Lithodex', loadComponent: () => import('./trust/trust-page').then((m) => m.TrustPage) },
      { path: 'trust/people', title: 'People · Lithodex', loadComponent: () => import('./trust/people-page').then((m) => m.PeoplePage) },
      { path: 'trust/tokens', title: 'Tokens · Lithodex', loadComponent: () => import('./trust/tokens-page').then((m) => m.TokensPage) },
      {
        path: 'first-steps',
        title: 'First steps · Lithodex',
        loadComponent: () => import('./first/first-steps-page').then((m) => m.FirstStepsPage),
      },
      { path: 'about', title: 'About · Lithodex', loadComponent: () => import('./first/about-page').then((m) => m.AboutPage) },
      {
        path: 'account',
        title: 'How you sign in · Lithodex',
        loadComponent: () => import('./signin/account-page').then((m) => m.AccountPage),
      },
      { path: '**', redirectTo: '' },
    ],
  },
];
