import { defineConfig } from 'vitest/config';

/** A machine may be slow, and the first test of a file loads what it draws with. */
export default defineConfig({ test: { testTimeout: 60_000, hookTimeout: 60_000 } });
