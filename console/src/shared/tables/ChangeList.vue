<script setup lang="ts">
import type { Schemas } from '../../api/client'

/** What changed, a line for each value: `seats: 100 → 120`. */
const { changes } = defineProps<{ changes: Schemas['Change'][] }>()
</script>

<template>
  <ul v-if="changes.length">
    <li v-for="(one, at) in changes" :key="at">
      {{ one.field }}: <span class="muted">{{ one.before ?? '–' }}</span> → {{ one.after ?? '–' }}
    </li>
  </ul>
</template>

<style scoped>
ul {
  list-style: none;
  padding: 0;
}
li {
  overflow-wrap: anywhere;
}
</style>
