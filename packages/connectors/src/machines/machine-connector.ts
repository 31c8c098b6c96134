import type { Connector } from '../connector';
import { bringBackMachine } from './bring-back-machine';
import { deviceAt, diskOnPath, openDisk } from './open-disk';
import { surveyMachine } from './survey-machine';
import { takeMachine } from './take-machine';

/** Machines of a virtualization platform, as images. */
export const machineConnector: Connector<'machine'> = {
  capture: takeMachine,
  survey: surveyMachine,
  restore: bringBackMachine,
  device: deviceAt,
  async open(point, path) {
    const found = diskOnPath(point.root, path);
    return found && { tree: await openDisk(point, found.file), rest: found.rest };
  },
};
