<script setup lang="ts">
import { mdiClose, mdiPlus } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, listed, type Schemas } from '../../api/client'
import { useVocabulary } from '../../shared/actions/useVocabulary'

/** To whom something is given, each with a word. `alone`: a device has it or not. */
const { alone = false } = defineProps<{ alone?: boolean }>()
const given = defineModel<Schemas['Given'][]>({ required: true })
const { choices } = useVocabulary()
const { data: cohorts } = useQuery({
  queryKey: ['cohorts'],
  queryFn: () => listed(api.GET('/api/v1/cohorts')),
})
const EVERYONE = 'everyone'
const names = computed(() => [
  { title: EVERYONE, value: EVERYONE },
  ...(cohorts.value ?? [])
    .filter((one) => !one.moving)
    .map((one) => ({ title: one.name, value: one.name })),
])
const words = computed(() => choices('given_as').filter((one) => !alone || one.value !== 'offered'))

function put(place: number, changed: Partial<Schemas['Given']>) {
  given.value = given.value.map((one, at) => (at === place ? { ...one, ...changed } : one))
}

function add() {
  const taken = new Set(given.value.map((one) => one.cohort ?? EVERYONE))
  const free = names.value.find((one) => !taken.has(one.value))
  const cohort = !free || free.value === EVERYONE ? null : free.value
  given.value = [...given.value, { cohort, word: 'required' }]
}
</script>

<template>
  <fieldset class="given">
    <legend class="muted">Given to</legend>
    <p v-if="!given.length" class="muted">Nobody yet.</p>
    <div v-for="(one, place) in given" :key="place" class="line">
      <v-autocomplete
        :model-value="one.cohort ?? EVERYONE"
        :items="names"
        label="Cohort"
        hide-details
        @update:model-value="
          (name: string) => put(place, { cohort: name === EVERYONE ? null : name })
        "
      />
      <v-select
        :model-value="one.word"
        :items="words"
        label="How"
        hide-details
        @update:model-value="(word: Schemas['GivenAs']) => put(place, { word })"
      />
      <v-btn
        :icon="mdiClose"
        size="small"
        variant="text"
        :aria-label="`Take it from ${one.cohort ?? EVERYONE}`"
        @click="given = given.filter((_, at) => at !== place)"
      />
    </div>
    <v-btn size="small" variant="text" color="primary" :prepend-icon="mdiPlus" @click="add"
      >Give it to a cohort or to everyone</v-btn
    >
  </fieldset>
</template>

<style scoped>
.given {
  padding: 0;
  border: 0;
}
.given legend,
.given p {
  padding: 0;
}
.line {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 150px 40px;
  gap: 8px;
  align-items: center;
  margin-bottom: 8px;
}
</style>
