import { defineConfigWithVueTs, vueTsConfigs } from '@vue/eslint-config-typescript'
import pluginVue from 'eslint-plugin-vue'

export default defineConfigWithVueTs(
  { ignores: ['src/api/schema.d.ts'] },
  pluginVue.configs['flat/essential'],
  vueTsConfigs.recommended,
  {
    rules: {
      'vue/max-len': ['error', { code: 100, template: 100 }],
      // Pages are called what the navigation calls them.
      'vue/multi-word-component-names': 'off',
      // Vuetify names its slots with a dot.
      'vue/valid-v-slot': ['error', { allowModifiers: true }],
    },
  },
  { files: ['src/**/*.ts'], rules: { 'max-len': ['error', { code: 100 }] } },
)
