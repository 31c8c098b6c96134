import { provideHttpClient, withFetch, withInterceptors } from '@angular/common/http';
import { provideBrowserGlobalErrorListeners, provideZonelessChangeDetection, type ApplicationConfig } from '@angular/core';
import { bootstrapApplication } from '@angular/platform-browser';
import { provideRouter, withComponentInputBinding, withRouterConfig } from '@angular/router';
import { App } from './app/app';
import { csrfInterceptor } from './app/data/csrf-interceptor';
import { routes } from './app/routes';

const config: ApplicationConfig = {
  providers: [
    provideBrowserGlobalErrorListeners(),
    provideZonelessChangeDetection(),
    provideHttpClient(withFetch(), withInterceptors([csrfInterceptor])),
    provideRouter(routes, withComponentInputBinding(), withRouterConfig({ defaultQueryParamsHandling: 'replace' })),
  ],
};

bootstrapApplication(App, config).catch((error: unknown) => {
  console.error(error);
});
