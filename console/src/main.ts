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

/** How long the frame waits for the page (ms), which asks first for what it reads. */
const PATIENCE = 50

const app = createApp(App)
  .use(createPinia())
  .use(router)
  .use(vuetify)
  .use(VueQueryPlugin, { queryClient: queries })

const page = router.isReady().catch(() => undefined)
const patience = new Promise((over) => setTimeout(over, PATIENCE))
void Promise.race([page, patience]).then(() => app.mount('#app'))
