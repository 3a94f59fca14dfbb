<script setup lang="ts">
import { computed, useTemplateRef, watchEffect } from 'vue'

import { at } from '../../api/base'
import type { Schemas } from '../../api/client'
import { type Language, say } from './words'

/** The head of the person's page: who welcomes them. */
const { card, language } = defineProps<{ card: Schemas['WelcomeCard']; language: Language }>()
const greeting = computed(
  () =>
    card.greetings?.find((one) => one.language === language) ??
    card.greetings?.find((one) => one.language === 'en'),
)
// Set as a property: a style in the markup would need a looser policy.
const head = useTemplateRef<HTMLElement>('head')
watchEffect(() => head.value?.style.setProperty('background', card.colour ?? '#1d5c63'))
</script>

<template>
  <header ref="head" class="card">
    <img
      v-if="card.picture"
      :src="at(`/api/v1/welcome-card/pictures/${card.picture}`)"
      :alt="card.organisation"
    />
    <h1>{{ say(language, 'welcome') }}</h1>
    <p class="name">{{ say(language, 'to', { name: card.organisation }) }}</p>
    <p v-if="greeting" class="words">{{ greeting.text }}</p>
  </header>
</template>

<style scoped>
.card {
  color: #fff;
  padding: 24px 16px 20px;
}
.card img {
  display: block;
  max-width: 100%;
  max-height: 120px;
  margin-bottom: 14px;
}
h1 {
  font-size: 1.6rem;
  margin: 0;
}
.name {
  font-size: 1.05rem;
  margin: 2px 0 0;
}
.words {
  margin: 12px 0 0;
  white-space: pre-line;
}
</style>
