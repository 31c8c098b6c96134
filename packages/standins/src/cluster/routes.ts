import fs from 'node:fs';
import type { IncomingMessage, ServerResponse } from 'node:http';
import path from 'node:path';
import { isReady } from './controllers';
import type { ClusterObjects, Held } from './objects';
import { placesOf } from './pod-places';
import { at, list, text, words } from './read-value';
import type { ClusterVolumes } from './volumes';

/** The pods that a route of a host leads to; undefined for a host that no route names. */
function podsBehind(objects: ClusterObjects, host: string): Held[] | undefined {
  for (const route of objects.of('Ingress')) {
    const rule = list(route.spec, 'rules').find((r) => text(r, 'host') === host);
    if (!rule) continue;
    const space = route.metadata.namespace ?? '';
    const service = objects.get('Service', space, text(list(rule, 'http', 'paths')[0], 'backend', 'service', 'name'));
    const selector = Object.entries(words(service?.spec, 'selector'));
    if (!service || selector.length === 0) return [];
    return objects.of('Pod', space).filter((p) => isReady(p) && selector.every(([k, v]) => p.metadata.labels?.[k] === v));
  }
  return undefined;
}

/** What an application sees of its surroundings: settings and secrets by name. */
function surroundings(objects: ClusterObjects, pod: Held, container: unknown): Record<string, string> {
  const space = pod.metadata.namespace ?? '';
  const all: Record<string, string> = {};
  for (const source of list(container, 'envFrom')) {
    Object.assign(all, words(objects.get('ConfigMap', space, text(source, 'configMapRef', 'name')), 'data'));
    const sealed = words(objects.get('Secret', space, text(source, 'secretRef', 'name')), 'data');
    for (const [name, value] of Object.entries(sealed)) all[name] = Buffer.from(value, 'base64').toString();
  }
  for (const one of list(container, 'env')) if (at(one, 'value') !== undefined) all[text(one, 'name')] = text(one, 'value');
  return all;
}

/** Answers as the application behind a host: its health, its settings, and the files of its first volume. Gives false for a host that no route names. */
export function answerAsRoute(
  objects: ClusterObjects,
  volumes: ClusterVolumes,
  request: IncomingMessage,
  response: ServerResponse,
): boolean {
  const pods = podsBehind(objects, (request.headers.host ?? '').replace(/:\d+$/, ''));
  if (!pods) return false;
  const [pod] = pods;
  const container = pod && list(pod.spec, 'containers')[0];
  const asked = decodeURIComponent(new URL(request.url ?? '/', 'http://host').pathname);
  if (!pod) response.writeHead(503).end('nothing answers');
  else if (asked === '/health') response.end('well');
  else if (asked === '/settings')
    response.writeHead(200, { 'content-type': 'application/json' }).end(JSON.stringify(surroundings(objects, pod, container)));
  else {
    const folder = placesOf(objects, volumes, pod, container).find(([, place]) => fs.statSync(place).isDirectory())?.[1];
    const file = folder === undefined ? '' : path.join(folder, path.normalize(`/${asked}`));
    if (file !== '' && fs.existsSync(file) && fs.lstatSync(file).isFile()) response.end(fs.readFileSync(file));
    else response.writeHead(404).end('not there');
  }
  return true;
}
