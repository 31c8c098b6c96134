import type { IncomingMessage, ServerResponse } from 'node:http';
import { parse } from 'yaml';

const mostBody = 8 << 20;

/** A refusal, as clusters say it. */
export class ApiFailure extends Error {
  constructor(
    readonly status: number,
    readonly reason: string,
    message: string,
    readonly headers: Readonly<Record<string, string>> = {},
  ) {
    super(message);
  }
}

export function sayStatus(response: ServerResponse, error: unknown): void {
  const failure = error instanceof ApiFailure ? error : new ApiFailure(500, 'InternalError', String(error));
  const body = {
    apiVersion: 'v1',
    kind: 'Status',
    status: 'Failure',
    message: failure.message,
    reason: failure.reason,
    code: failure.status,
  };
  if (!response.headersSent) response.writeHead(failure.status, { 'content-type': 'application/json', ...failure.headers });
  response.end(JSON.stringify(body));
}

/** The body of a request, as JSON or YAML; undefined for none. */
export async function readBody(request: IncomingMessage): Promise<unknown> {
  let text = '';
  for await (const part of request as AsyncIterable<Buffer>) {
    text += part.toString();
    if (text.length > mostBody) throw new ApiFailure(413, 'RequestEntityTooLarge', 'too long');
  }
  if (text === '') return undefined;
  try {
    return (request.headers['content-type'] ?? '').includes('yaml') ? parse(text) : (JSON.parse(text) as unknown);
  } catch {
    throw new ApiFailure(400, 'BadRequest', 'the body can not be read');
  }
}
