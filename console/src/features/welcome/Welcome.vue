<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import { api, got } from '../../api/client'
import { isRightToLeft, type Language, LANGUAGES, languageOf, say } from './words'
import WelcomeCard from './WelcomeCard.vue'
import WayIn from './WayIn.vue'

const route = useRoute()
// After the #, which is never sent: no log holds it. A pass's code has ten signs, the secret of an
// arrival is longer. Older QR codes have the code in the path.
const shown = computed(() => route.hash.slice(1) || String(route.params.code ?? ''))
const secret = computed(() => (shown.value.length > 20 ? shown.value : ''))
const code = computed(() => {
  const typed = shown.value.toUpperCase()
  return typed.length === 10 ? `${typed.slice(0, 5)}-${typed.slice(5)}` : typed
})
const kept = localStorage.getItem('language')
const language = ref<Language>(languageOf([kept ?? '', ...navigator.languages]))
watch(
  language,
  (chosen) => {
    document.documentElement.lang = chosen
    localStorage.setItem('language', chosen)
  },
  { immediate: true },
)
const { data: card } = useQuery({
  queryKey: ['welcome-card'],
  queryFn: () => got(api.GET('/api/v1/welcome-card')),
})
</script>

<template>
  <div class="page" :dir="isRightToLeft(language) ? 'rtl' : 'ltr'">
    <WelcomeCard v-if="card" :card="card" :language="language" />
    <main class="body">
      <WayIn v-if="secret" :secret="secret" :language="language" :card="card ?? null" />
      <template v-else-if="code">
        <p>{{ say(language, 'typeCode') }}</p>
        <p class="code" dir="ltr">{{ code }}</p>
        <p class="muted">{{ say(language, 'keepCode') }}</p>
      </template>
    </main>
    <footer class="foot">
      <label>
        <span class="visually-hidden">{{ say(language, 'language') }}</span>
        <select v-model="language">
          <option v-for="(name, one) in LANGUAGES" :key="one" :value="one">{{ name }}</option>
        </select>
      </label>
    </footer>
  </div>
</template>

<style scoped>
.page {
  max-width: 480px;
  margin: 0 auto;
  min-height: 100vh;
  display: flex;
  flex-direction: column;
  background: rgb(var(--v-theme-surface));
  font-size: 1rem;
}
.body {
  flex: 1;
  padding: 20px 16px;
}
.code {
  font-family: ui-monospace, 'DejaVu Sans Mono', monospace;
  font-size: 2rem;
  letter-spacing: 0.08em;
  margin: 16px 0;
  font-weight: 650;
}
.foot {
  padding: 12px 16px;
  border-top: 1px solid rgba(var(--v-border-color), 0.15);
}
.foot select {
  min-height: 44px;
  padding: 0 10px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.4);
  border-radius: 6px;
  color: inherit;
  background: transparent;
  font: inherit;
}
option {
  color: #111;
}
</style>
