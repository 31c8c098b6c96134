import { workerData } from 'node:worker_threads';
import { served } from '@lithodex/engine';
import { listAhead } from './list-ahead';
import { scoutPlaces, scoutStates, stateOf, type ScoutRequest, type ScoutStart } from './scout-message';

/** Thread that lists folders ahead of a walk. */
const { states: memory, port } = workerData as ScoutStart;
const states = new Int32Array(memory);

port.on('message', (request: ScoutRequest) => {
  const { id } = request;
  const place = id % scoutPlaces;
  const [waiting, scout] = [stateOf(id, scoutStates.waiting), stateOf(id, scoutStates.scout)];
  // the walk may have come by itself
  if (Atomics.compareExchange(states, place, waiting, scout) !== waiting) return;
  const found = listAhead(request);
  port.postMessage(found, [found.facts.buffer as ArrayBuffer, ...(found.names ? [found.names.buffer as ArrayBuffer] : [])]);
  Atomics.store(states, place, stateOf(id, scoutStates.done));
  Atomics.notify(states, place);
});
served(() => undefined);
