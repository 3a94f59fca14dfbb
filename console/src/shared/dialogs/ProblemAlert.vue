<script setup lang="ts">
import { computed } from 'vue'

import { ProblemError } from '../../api/client'

const { error } = defineProps<{ error: unknown }>()
const problem = computed(() => (error instanceof ProblemError ? error.problem : null))
const more = computed(
  () =>
    problem.value?.errors
      ?.filter((field) => !problem.value?.detail.includes(field.detail))
      .slice(0, 12) ?? [],
)
</script>

<template>
  <v-alert v-if="error" type="error" role="alert" class="my-2">
    <pre class="detail" :class="{ mono: problem?.detail.includes('\n') }">{{
      problem?.detail ?? String(error)
    }}</pre>
    <ul v-if="more.length" class="ml-4">
      <li v-for="field in more" :key="field.pointer + field.code">
        {{ field.pointer }}: {{ field.detail }}
      </li>
    </ul>
    <div v-if="problem?.remedy">{{ problem.remedy }}</div>
  </v-alert>
</template>

<style scoped>
.detail {
  white-space: pre-wrap;
  margin: 0;
}
.detail:not(.mono) {
  font: inherit;
}
</style>
