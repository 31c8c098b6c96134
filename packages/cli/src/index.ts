export { runCli } from './program';
export { unasked } from './unasked';
export { Profile, readProfiles, writeProfiles } from './profiles';
