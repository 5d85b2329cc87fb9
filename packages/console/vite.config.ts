import { svelte } from '@sveltejs/vite-plugin-svelte';
import tailwindcss from '@tailwindcss/vite';
import { defaultClientConditions, defineConfig } from 'vite';

export default defineConfig({
  // From the sources of the other rooms, so that it does not wait until they are compiled.
  resolve: { conditions: ['source', ...defaultClientConditions] },
  plugins: [tailwindcss(), svelte()],
  // Fonts stay files: the content policy of the service allows nothing inlined.
  build: { assetsInlineLimit: 0, chunkSizeWarningLimit: 900 },
  logLevel: 'warn',
});
