import { fileURLToPath } from 'node:url';
import tailwind from '@tailwindcss/vite';
import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

const service = process.env.TSUNAGI_URL ?? 'http://127.0.0.1:7780';

export default defineConfig({
  root: fileURLToPath(new URL('.', import.meta.url)),
  plugins: [react(), tailwind()],
  build: { outDir: '../dist/console', emptyOutDir: true, assetsInlineLimit: 0, chunkSizeWarningLimit: 750 },
  // `npm run dev`: pages are reloaded as they are edited, calls go to the service.
  server: { port: 7790, host: '127.0.0.1', proxy: { '/api': service, '/schema': service } },
});
