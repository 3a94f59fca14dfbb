import { readFileSync } from 'node:fs'

import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'
import { compression, defineAlgorithm } from 'vite-plugin-compression2'
import vuetify from 'vite-plugin-vuetify'

/** The licence of the font that is served along; scripts have theirs in licences.md. */
function fontLicence() {
  return {
    name: 'font-licence',
    generateBundle(this: { emitFile: (file: object) => void }) {
      const source = readFileSync('node_modules/@fontsource-variable/inter/LICENSE')
      this.emitFile({ type: 'asset', fileName: 'licence-inter.txt', source })
    },
  }
}

export default defineConfig({
  // The service says at the start below which path it stands.
  base: './',
  plugins: [
    vue(),
    vuetify({ autoImport: true }),
    fontLicence(),
    // Packed once and as small as can be, not for every visitor.
    compression({
      include: /\.(js|css|svg)$/,
      threshold: 1000,
      algorithms: [defineAlgorithm('gzip', { level: 9 }), defineAlgorithm('brotliCompress')],
    }),
  ],
  html: { cspNonce: '__CSP_NONCE__' },
  build: {
    target: 'baseline-widely-available',
    assetsInlineLimit: 0,
    outDir: '../src/sortitor/api/static',
    emptyOutDir: true,
    license: { fileName: 'licences.md' },
    chunkSizeWarningLimit: 900,
    // How long a plugin takes on a slow machine is nothing that whoever builds can mend.
    rolldownOptions: {
      checks: { pluginTimings: false },
      output: {
        // A slow line fetches a few large files sooner than forty small ones.
        codeSplitting: {
          groups: [{ name: 'parts', test: /node_modules|src\/(shared|api)/ }],
        },
      },
    },
  },
  server: { proxy: { '/api': 'http://127.0.0.1:8470' } },
})
