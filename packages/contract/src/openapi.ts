import { z } from 'zod';
import { apiErrors } from './errors';
import { ErrorBody } from './common';
import type { Route } from './route';
import { routes } from './routes';

type Json = Record<string, unknown>;
const schemaOf = (schema: z.ZodType, io: 'input' | 'output') => z.toJSONSchema(schema, { io, unrepresentable: 'any' }) as Json;

function parameters(route: Route): Json[] {
  const from = (schema: z.ZodObject | undefined, where: 'path' | 'query') =>
    Object.entries(schema?.shape ?? {}).map(([name, field]) => ({
      name,
      in: where,
      required: where === 'path' || !(field as z.ZodType).safeParse(undefined).success,
      schema: schemaOf(field as z.ZodType, 'input'),
    }));
  return [...from(route.params, 'path'), ...from(route.query, 'query')];
}

const accessWords = { anyone: 'Anyone.', mover: 'Movers only.', asker: 'Who signed in for themselves only.' } as const;

function operation(name: string, route: Route): Json {
  const access = typeof route.access === 'string' ? accessWords[route.access] : `Roles: ${route.access.join(', ')}.`;
  const content = (schema: z.ZodType, io: 'input' | 'output') => ({ 'application/json': { schema: schemaOf(schema, io) } });
  return {
    operationId: name,
    summary: route.summary,
    description: access,
    parameters: parameters(route),
    ...(route.body && { requestBody: { required: true, content: content(route.body, 'input') } }),
    responses: {
      200: { description: 'Done', ...(route.response && { content: content(route.response, 'output') }) },
      default: { description: 'An error with its code', content: content(ErrorBody, 'output') },
    },
    ...(route.access === 'anyone' ? { security: [] } : {}),
  };
}

/** The API as an OpenAPI 3.1 document, made from the route table. */
export function openApiDocument(): Json {
  const paths: Record<string, Json> = {};
  for (const [name, route] of Object.entries<Route>(routes)) {
    const path = route.path.replace(/:(\w+)/g, '{$1}');
    paths[path] = { ...paths[path], [route.method]: operation(name, route) };
  }
  return {
    openapi: '3.1.0',
    info: { title: 'Lithodex', version: '1', description: `Error codes: ${Object.keys(apiErrors).join(', ')}.` },
    servers: [{ url: '/api/v1' }],
    security: [{ token: [] }, { cookie: [] }],
    components: {
      securitySchemes: { token: { type: 'http', scheme: 'bearer' }, cookie: { type: 'apiKey', in: 'cookie', name: 'lithodex' } },
    },
    paths,
  };
}
