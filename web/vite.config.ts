import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

export default defineConfig({
  root: import.meta.dirname,
  plugins: [react()],
  worker: { format: 'es' },
  build: { outDir: 'dist', emptyOutDir: true, assetsInlineLimit: 0, chunkSizeWarningLimit: 1500 },
  server: {
    // the page's own host is passed on: the server answers only to pages under its own name
    proxy: { '/api': { target: process.env['OAK_SERVER'] ?? 'http://127.0.0.1:4180' } },
    // as the server itself sends them: without them the page's workers share no memory
    headers: { 'Cross-Origin-Opener-Policy': 'same-origin', 'Cross-Origin-Embedder-Policy': 'require-corp' },
  },
})
