export { read } from './reader';
