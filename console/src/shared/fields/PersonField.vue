<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, got } from '../../api/client'

/** Somebody, found by any of their names while it is typed; the value is the user name. `left`:
 * those who have left, too. */
const {
  label,
  short = '',
  suggested = '',
  left = false,
} = defineProps<{ label: string; short?: string; suggested?: string; left?: boolean }>()
const model = defineModel<string>()
interface Choice {
  value: string
  title: string
}
const typed = ref(suggested)
/** Stays among the choices, whatever is typed afterwards. */
const chosen = ref<Choice | null>(null)
const wanted = computed(() => (typed.value === chosen.value?.title ? '' : typed.value.trim()))
const { data } = useQuery({
  queryKey: ['people', 'typed', wanted],
  queryFn: () =>
    got(api.GET('/api/v1/people', { params: { query: { query: wanted.value, limit: 12 } } })),
  enabled: () => wanted.value.length > 1,
})
const items = computed<Choice[]>(() => {
  const found = (wanted.value ? (data.value?.items ?? []) : [])
    .filter((one) => (left || !one.left_at) && one.user_name !== chosen.value?.value)
    .map((one) => ({ value: one.user_name, title: `${one.name} (${one.user_name})` }))
  return chosen.value ? [chosen.value, ...found] : found
})

function choose(value: string | null) {
  chosen.value = items.value.find((one) => one.value === value) ?? null
  model.value = value ?? ''
}
</script>

<template>
  <v-autocomplete
    :model-value="model || null"
    v-model:search="typed"
    :items="items"
    :label="short ? undefined : label"
    :aria-label="label"
    density="compact"
    variant="outlined"
    hide-details="auto"
    :placeholder="short || 'Type a name'"
    :persistent-placeholder="!!short"
    no-filter
    hide-no-data
    @update:model-value="choose"
    class="person"
  />
</template>

<style scoped>
.person {
  min-width: 190px;
}
</style>
