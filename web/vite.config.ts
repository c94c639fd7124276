import { svelte } from '@sveltejs/vite-plugin-svelte';
import { defineConfig } from 'vitest/config';

export default defineConfig({
  plugins: [svelte()],
  worker: { format: 'es' },
  build: { assetsInlineLimit: 0, target: 'es2022' },
  resolve: process.env.VITEST ? { conditions: ['browser'] } : {},
  test: { environment: 'node', include: ['src/**/*.test.ts'] },
});
