import { HttpClient, HttpErrorResponse, HttpParams } from '@angular/common/http';
import { inject, Injectable } from '@angular/core';
import { routes, type Answered, type BodyInput, type QueryInput, type RouteName } from '@lithodex/contract';
import { catchError, switchMap, throwError, type Observable } from 'rxjs';
import { Confirmation } from './confirmation';

export interface CallOptions<N extends RouteName> {
  readonly id?: number | string;
  readonly query?: QueryInput<N>;
  readonly body?: BodyInput<N>;
}

/** What the server said when it refused. */
export class ApiFailure extends Error {
  constructor(
    readonly code: string,
    message: string,
    readonly details: unknown,
  ) {
    super(message);
  }
}

/** Address of a route, for links and downloads. */
export function addressOf(name: RouteName, id: number | string): string {
  return `/api/v1${routes[name].path.replace(':id', encodeURIComponent(String(id)))}`;
}

/** The API, typed by the contract's route table. Failures arrive as {@link ApiFailure}. */
@Injectable({ providedIn: 'root' })
export class Api {
  private readonly http = inject(HttpClient);
  private readonly confirmation = inject(Confirmation);

  call<N extends RouteName>(name: N, options: CallOptions<N> = {}): Observable<Answered<N>> {
    const route = routes[name];
    const entries = Object.entries((options.query ?? {}) as Record<string, unknown>).filter(
      ([, v]) => v !== undefined && v !== null && v !== '',
    );
    const params = new HttpParams({ fromObject: Object.fromEntries(entries.map(([k, v]) => [k, String(v)])) });
    return this.http
      .request<Answered<N>>(route.method.toUpperCase(), addressOf(name, options.id ?? ''), { body: options.body, params })
      .pipe(
        catchError((error: unknown) => throwError(() => toFailure(error))),
        catchError((failure: ApiFailure) =>
          failure.code === 'CONFIRM_FIRST' && name !== 'confirm'
            ? this.confirmation.ask().pipe(switchMap((yes) => (yes ? this.call(name, options) : throwError(() => failure))))
            : throwError(() => failure),
        ),
      );
  }
}

function toFailure(error: unknown): ApiFailure {
  if (error instanceof HttpErrorResponse) {
    const body = error.error as { code?: string; message?: string; details?: unknown } | null;
    if (body?.code) return new ApiFailure(body.code, body.message ?? '', body.details);
    return new ApiFailure('UNREACHABLE', 'The server does not answer. What is stored is safe; try again in a moment.', undefined);
  }
  return new ApiFailure('UNEXPECTED', String(error), undefined);
}
