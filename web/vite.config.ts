import react from '@vitejs/plugin-react'
import { defineConfig, type Plugin } from 'vite'

/** `make dev` touches this file when a server that was built again answers. */
const STARTED = new URL('../target/dev-started', import.meta.url).pathname

/** Loads the page again when the server behind it is another one. */
const followServer = (): Plugin => ({
  name: 'follow-server',
  configureServer(vite) {
    vite.watcher.add(STARTED)
    vite.watcher.on('change', (file) => {
      if (file === STARTED) vite.ws.send({ type: 'full-reload' })
    })
  },
})

export default defineConfig(({ command }) => ({
  // A component that changes is put in place of the old one while it is worked on.
  plugins: command === 'serve' ? [react(), followServer()] : [],
  esbuild: { jsx: 'automatic' },
  build: {
    target: 'es2022',
    reportCompressedSize: false,
    // Fonts stay files: the page's policy allows no data: fonts.
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 1500,
    rollupOptions: { output: { manualChunks: { three: ['three'], antd: ['antd'] } } },
  },
  // The server compares Origin with Host: both pass as the browser sent them.
  server: {
    // The guide and its pictures lie beside the web app.
    fs: { allow: ['..'] },
    proxy: { '/api': { target: 'http://127.0.0.1:7450', changeOrigin: false } },
  },
}))
