import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'
import vuetify from 'vite-plugin-vuetify'

export default defineConfig({
  // The service says at the start below which path it stands.
  base: './',
  plugins: [vue(), vuetify({ autoImport: true })],
  html: { cspNonce: '__CSP_NONCE__' },
  build: {
    target: 'baseline-widely-available',
    assetsInlineLimit: 0,
    outDir: '../src/sortitor/api/static',
    emptyOutDir: true,
    chunkSizeWarningLimit: 900,
  },
  server: { proxy: { '/api': 'http://127.0.0.1:8470' } },
})
