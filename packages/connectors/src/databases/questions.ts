export { commitsOf, compareRows, swapTables } from './database-connector';
export { endScratch } from './kept-scratch';
export { compareInside, insideScratch, rowsInside } from './look-inside';
