// Builds the web application, in a process of its own: "build-web.mjs [checked]".
import { build } from './install.mjs';

await build([process.argv[2] === 'checked' ? 'checked web' : 'web']);
