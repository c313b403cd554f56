import { defineConfig, mergeConfig } from 'vitest/config';
import vite from './vite.config';

// Apart from the build, which does without what only tests need.
export default mergeConfig(vite, defineConfig({ test: { environment: 'node' } }));
