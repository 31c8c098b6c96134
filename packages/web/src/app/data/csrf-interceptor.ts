import type { HttpInterceptorFn } from '@angular/common/http';
import { inject } from '@angular/core';
import { CsrfToken } from './csrf-token';

/** Sends the session's token with every change. */
export const csrfInterceptor: HttpInterceptorFn = (request, next) => {
  const { value } = inject(CsrfToken);
  return next(value && request.method !== 'GET' ? request.clone({ setHeaders: { 'x-lithodex-csrf': value } }) : request);
};
