import { defineConfig, mergeConfig } from 'vitest/config'

import vite from './vite.config.ts'

export default mergeConfig(
  vite,
  defineConfig({
    test: {
      environment: 'jsdom',
      include: ['src/**/*.test.ts'],
      server: { deps: { inline: ['vuetify'] } },
    },
  }),
)
