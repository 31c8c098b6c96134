/// <reference lib="webworker" />
import { simulateAll, type SimulationJob } from './simulation-job';

addEventListener('message', ({ data }: MessageEvent<{ id: number; job: SimulationJob }>) => {
  postMessage({ id: data.id, outlooks: simulateAll(data.job) });
});
