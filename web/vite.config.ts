import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [react()],
  build: {
    target: 'es2022',
    // Fonts stay files: the page's policy allows no data: fonts.
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 1500,
    rollupOptions: { output: { manualChunks: { three: ['three'], antd: ['antd'] } } },
  },
  server: { proxy: { '/api': 'http://127.0.0.1:7450' } },
})
