// Builds the web application, in a process of its own.
import { build } from './install.mjs';

await build(['web']);
