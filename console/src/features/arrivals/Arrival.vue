<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { useRoute } from 'vue-router'

import { api, got } from '../../api/client'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { atTime } from '../../shared/formats'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import GateTrace from '../gate/GateTrace.vue'

/** One device's whole way in: what it said, what the gate said, every message. */
const route = useRoute()
const { label } = useVocabulary()
const id = computed(() => Number(route.params.id))
const { data: arrival, error } = useQuery({
  queryKey: ['arrivals', 'one', id],
  queryFn: () =>
    got(api.GET('/api/v1/arrivals/{arrival_id}', { params: { path: { arrival_id: id.value } } })),
  refetchInterval: 5000,
})
const title = computed(() => {
  const one = arrival.value
  if (!one) return 'Arrival'
  const said = one.stated as Record<string, string | null>
  return one.device_name ?? ([said.maker, said.model].filter(Boolean).join(' ') || 'Arrival')
})
const facts = computed(() => {
  const one = arrival.value
  if (!one) return []
  const said = one.stated as Record<string, unknown>
  const words = (key: string) => String(said[key] ?? '') || '–'
  return [
    ['How far', label('way_stage', one.way)],
    ['Knocked', atTime(one.at)],
    ['Went on last', atTime(one.moved_at)],
    ['Person', one.person_name ?? (said.person ? `says: ${String(said.person)}` : 'nobody')],
    ['Platform', `${words('platform')} ${words('os_version')}`],
    ['Hardware', `${words('maker')} ${words('model')}`],
    ['Serial', words('serial')],
    ['Protocol', `version ${String(said.protocol ?? 1)}`],
  ]
})
const waits = computed(() => {
  const one = arrival.value
  if (one?.way !== 'asked') return ''
  const asked = one.asks.map((need) => label('need', need)).join(', ')
  return `Waits for ${asked}, until ${atTime(one.lapses_at ?? one.at)}.`
})
const clock = (time: string) => new Date(time).toLocaleTimeString()
</script>

<template>
  <div class="page-head">
    <h1>{{ title }}</h1>
    <router-link v-if="arrival?.device_id" :to="`/devices/${arrival.device_id}`"
      >The device</router-link
    >
    <router-link v-if="arrival?.pass_id" :to="`/passes/${arrival.pass_id}`"
      >Pass “{{ arrival.pass_label }}”</router-link
    >
  </div>
  <ProblemAlert :error="error" />
  <div v-if="arrival" class="columns">
    <v-card class="pa-4">
      <dl class="facts">
        <template v-for="[name, value] in facts" :key="name">
          <dt class="muted">{{ name }}</dt>
          <dd>{{ value }}</dd>
        </template>
      </dl>
      <p v-if="waits" class="mt-3">{{ waits }}</p>
      <template v-if="arrival.messages.length">
        <h2 class="mt-4 mb-2">What went to and fro</h2>
        <ol class="messages">
          <li v-for="(message, place) in arrival.messages" :key="place">
            <span class="muted">{{ clock(message.at) }} {{ message.who }}</span>
            {{ message.what }}
          </li>
        </ol>
      </template>
    </v-card>
    <v-card class="pa-4">
      <template v-if="arrival.reasons.length">
        <h2 class="mb-2">Why</h2>
        <p v-for="(one, place) in arrival.reasons" :key="place" class="mb-2">
          {{ one.explanation }} <span class="muted">{{ one.remedy }}</span>
        </p>
      </template>
      <h2 class="mb-2">What the gate looked at</h2>
      <GateTrace :trace="arrival.trace" />
    </v-card>
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(340px, 1fr));
  gap: 12px;
  align-items: start;
}
.facts {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 4px 18px;
}
.facts dd {
  margin: 0;
}
.messages {
  padding-inline-start: 20px;
}
.messages li + li {
  margin-top: 4px;
}
</style>
