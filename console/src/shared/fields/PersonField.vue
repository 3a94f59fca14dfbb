<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, got } from '../../api/client'

/** Somebody, found by any of their names while it is typed; the value is the user name. */
const {
  label,
  short = '',
  suggested = '',
} = defineProps<{ label: string; short?: string; suggested?: string }>()
const model = defineModel<string>()
const typed = ref(suggested)
const { data } = useQuery({
  queryKey: ['people', 'typed', typed],
  queryFn: () =>
    got(api.GET('/api/v1/people', { params: { query: { query: typed.value, limit: 12 } } })),
  enabled: () => typed.value.trim().length > 1,
})
const items = computed(() =>
  (data.value?.items ?? [])
    .filter((one) => !one.left_at)
    .map((one) => ({ value: one.user_name, title: `${one.name} (${one.user_name})` })),
)
</script>

<template>
  <v-autocomplete
    v-model="model"
    v-model:search="typed"
    :items="items"
    :label="short || label"
    :aria-label="label"
    density="compact"
    variant="outlined"
    hide-details="auto"
    placeholder="Type a name"
    :no-data-text="typed.trim().length > 1 ? 'Nobody is called so.' : 'Type a name.'"
    no-filter
    hide-no-data
    class="person"
  />
</template>

<style scoped>
.person {
  min-width: 190px;
}
</style>
