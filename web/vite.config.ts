import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

// The built console is embedded into the program from this folder.
export default defineConfig({
  plugins: [react()],
  build: { outDir: '../internal/httpd/console/dist', emptyOutDir: true, assetsInlineLimit: 0, chunkSizeWarningLimit: 1000 },
  server: { proxy: { '/api': 'http://127.0.0.1:7070' } },
})
