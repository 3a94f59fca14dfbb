<script setup lang="ts">
import type { Schemas } from '../../api/client'

/** What is forgotten or cannot be, each with the way to mend it. */
const { lints } = defineProps<{ lints: Schemas['KitLint'][] }>()
const TABS: Record<string, string> = { sheet: 'sheets', checklist: 'checklists', kit: 'kits' }
const place = (lint: Schemas['KitLint']) =>
  lint.kind === 'item' ? `/items/${lint.id}` : { path: '/kits', query: { tab: TABS[lint.kind] } }
</script>

<template>
  <v-alert v-if="lints.length" type="warning">
    <strong>{{
      lints.length === 1 ? 'One thing needs a look' : `${lints.length} things need a look`
    }}</strong>
    <ul>
      <li v-for="(lint, at) in lints" :key="at">
        <router-link :to="place(lint)">{{ lint.about }}</router-link>: {{ lint.words }}
        <em>{{ lint.mend }}</em>
      </li>
    </ul>
  </v-alert>
</template>

<style scoped>
ul {
  padding-left: 18px;
}
</style>
