import '@fontsource-variable/inter'
import 'vuetify/styles'
import './base.css'

import { VueQueryPlugin } from '@tanstack/vue-query'
import { createPinia } from 'pinia'
import { createApp } from 'vue'

import { queries } from './api/queries'
import App from './App.vue'
import { router } from './router'
import { vuetify } from './theme'

createApp(App)
  .use(createPinia())
  .use(router)
  .use(vuetify)
  .use(VueQueryPlugin, { queryClient: queries })
  .mount('#app')
