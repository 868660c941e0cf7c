import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

export default defineConfig({
  root: import.meta.dirname,
  plugins: [react()],
  worker: { format: 'es' },
  build: { outDir: 'dist', emptyOutDir: true, assetsInlineLimit: 0, chunkSizeWarningLimit: 1500 },
  // the page's own host is passed on: the server answers only to pages under its own name
  server: { proxy: { '/api': { target: 'http://127.0.0.1:4180' } } },
})
