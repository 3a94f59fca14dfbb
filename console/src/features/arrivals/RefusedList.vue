<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, got } from '../../api/client'
import { atTime } from '../../shared/formats'

/** The latest arrivals that the gate refused: of a device by its serial number or IMEI, or of a
 * person. */
const { identifier = undefined, person = undefined } = defineProps<{
  identifier?: string
  person?: number
}>()
const asked = computed(() => ({
  outcome: 'refused' as const,
  identifier,
  person: person === undefined ? undefined : String(person),
  limit: 3,
}))
const { data } = useQuery({
  queryKey: computed(() => ['refused', asked.value]),
  queryFn: () => got(api.GET('/api/v1/arrivals', { params: { query: asked.value } })),
})
const what = (stated: Record<string, unknown>) =>
  [stated.maker, stated.model].filter(Boolean).join(' ') || 'a device'
</script>

<template>
  <v-alert v-for="one in data?.items ?? []" :key="one.id" type="warning" class="mb-2">
    <strong
      >{{ identifier ? 'Not in the fleet. Refused' : `Refused: ${what(one.stated)},` }}
      {{ atTime(one.at) }}</strong
    >
    <div v-for="(reason, at) in one.reasons" :key="at">
      {{ reason.explanation }} <em>{{ reason.remedy }}</em>
    </div>
    <div class="row-gap mt-1">
      <router-link :to="`/arrivals/${one.id}`">Its way in</router-link>
      <router-link :to="`/gate?try=${one.id}`">Try it again with changes</router-link>
    </div>
  </v-alert>
</template>
