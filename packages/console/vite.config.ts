import { svelte } from '@sveltejs/vite-plugin-svelte';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [tailwindcss(), svelte()],
  // Fonts stay files: the content policy of the service allows nothing inlined.
  build: { assetsInlineLimit: 0, chunkSizeWarningLimit: 900 },
  logLevel: 'warn',
});
