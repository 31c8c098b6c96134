import type { Connector } from '../connector';
import { bringBackMachine } from './bring-back-machine';
import { surveyMachine } from './survey-machine';
import { takeMachine } from './take-machine';

/** Machines of a virtualization platform, as images. */
export const machineConnector: Connector<'machine'> = { capture: takeMachine, survey: surveyMachine, restore: bringBackMachine };
