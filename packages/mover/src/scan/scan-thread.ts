import { parentPort, workerData } from 'node:worker_threads';
import { shippedPatterns } from '@lithodex/core';
import { served } from '@lithodex/engine';
import { ContentLook } from './content-look';
import type { LookAnswer, LookAsked, LookStart } from './look-pool';
import { RuleSet } from './rule-set';

/** Thread that looks into contents: what is wrong in one goes wrong here. */
const { rules, sensitive } = workerData as LookStart;
const look = new ContentLook(RuleSet.of(rules), sensitive ? shippedPatterns : []);
const say = (answer: LookAnswer) => {
  parentPort!.postMessage(answer);
};
served(({ id, bytes, whole }: LookAsked) => {
  const data = Buffer.from(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  (whole ? look.intoWhole(data) : look.intoWindow(data)).then(
    (told) => {
      say({ id, told });
    },
    (error: unknown) => {
      say({ id, failed: error instanceof Error ? error.message : String(error) });
    },
  );
});
