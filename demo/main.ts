import { readConfig } from '@lithodex/server';
import { History } from './history';

const [, , configFile, state] = process.argv;
if (!configFile || !state) throw new Error('usage: demo CONFIG STATE');
await new History(readConfig(configFile), state, (text) => process.stderr.write(`${text}\n`)).live();
process.exit(0);
