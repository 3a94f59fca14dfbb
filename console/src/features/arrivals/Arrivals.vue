<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { at } from '../../api/base'
import type { Schemas } from '../../api/client'
import { readAgain } from '../../api/queries'
import { number } from '../../shared/formats'
import { useSession } from '../../shared/actions/useSession'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import ArrivalList from './ArrivalList.vue'
import DoorTexts from './DoorTexts.vue'
import MailList from './MailList.vue'
import PassDialog from './PassDialog.vue'
import PassList from './PassList.vue'

const route = useRoute()
const router = useRouter()
const session = useSession()
const { words } = useVocabulary()
const tab = computed({
  get: () => String(route.query.tab ?? 'waiting'),
  set: (value) => void router.push({ query: { tab: value } }),
})
const way = computed({
  get: () => (route.query.way ? (String(route.query.way) as Schemas['WayStage']) : null),
  set: (value) => void router.replace({ query: { tab: 'board', way: value ?? undefined } }),
})
const view = computed(() => tab.value as 'waiting' | 'refused' | 'all')
const open = ref(false)

// Live: the service tells when an arrival has gone on.
const counts = ref<Partial<Record<Schemas['WayStage'], number>>>({})
const stages = computed(() =>
  words('way_stage').map(({ value, label }) => ({
    value: value as Schemas['WayStage'],
    label,
    number: counts.value[value as Schemas['WayStage']] ?? 0,
  })),
)
let live: EventSource | null = null
onMounted(() => {
  live = new EventSource(at('/api/v1/arrivals/events'))
  live.addEventListener('board', (event) => {
    counts.value = (JSON.parse(event.data) as Schemas['WayCounts']).counts
    void readAgain(['arrivals'])
  })
})
onUnmounted(() => live?.close())
</script>

<template>
  <div class="page-head">
    <h1>Arrivals</h1>
    <v-btn
      v-if="session.may('prepare')"
      color="primary"
      :prepend-icon="mdiPlus"
      @click="open = true"
      >Make a pass</v-btn
    >
  </div>
  <v-tabs v-model="tab" density="compact" color="primary" class="mb-3">
    <v-tab value="waiting">Waiting for you</v-tab><v-tab value="board">On the way</v-tab
    ><v-tab value="refused">Refused</v-tab><v-tab value="all">All arrivals</v-tab
    ><v-tab value="passes">Passes</v-tab><v-tab value="mails">Mails</v-tab
    ><v-tab v-if="session.may('prepare')" value="texts">Terms and welcome</v-tab>
  </v-tabs>
  <template v-if="tab === 'board'">
    <div class="row-gap mb-3" role="group" aria-label="How far, of the last day">
      <v-btn
        v-for="stage in stages"
        :key="stage.value"
        size="small"
        :variant="way === stage.value ? 'flat' : 'outlined'"
        :color="way === stage.value ? 'primary' : undefined"
        :aria-pressed="way === stage.value"
        @click="way = way === stage.value ? null : stage.value"
        >{{ stage.label }} <strong class="ml-2">{{ number(stage.number) }}</strong></v-btn
      >
    </div>
    <ArrivalList view="board" :way="way" />
  </template>
  <PassList v-else-if="tab === 'passes'" />
  <MailList v-else-if="tab === 'mails'" />
  <DoorTexts v-else-if="tab === 'texts'" />
  <ArrivalList v-else :key="tab" :view="view" />
  <PassDialog v-model="open" />
</template>
