import { svelte } from '@sveltejs/vite-plugin-svelte';
import { defineConfig } from 'vitest/config';

export default defineConfig({
  plugins: [svelte()],
  worker: { format: 'es' },
  // The page is a part of the Python package: whoever installs its wheel has it.
  build: { assetsInlineLimit: 0, target: 'es2022', outDir: '../src/saltanvil/page', emptyOutDir: true },
  resolve: process.env.VITEST ? { conditions: ['browser'] } : {},
  test: { environment: 'node', include: ['src/**/*.test.ts'] },
});
