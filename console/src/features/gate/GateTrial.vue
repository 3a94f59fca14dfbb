<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, nextTick, reactive, ref, useTemplateRef, watch } from 'vue'
import { useRoute } from 'vue-router'

import { api, got, type Schemas } from '../../api/client'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import Picker from '../../shared/fields/Picker.vue'
import StageChip from '../../shared/tables/StageChip.vue'
import { atTime } from '../../shared/formats'
import { useAction } from '../../shared/actions/useAction'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import type { Platform, Policy } from './facets'
import GateTrace from './GateTrace.vue'

/** An imagined device, and what the gate says to it. */
const { policies, changed } = defineProps<{ policies: Policy[]; changed: boolean }>()
const { choices } = useVocabulary()
const imagined = reactive({
  platform: 'android' as Platform,
  os_version: '',
  ownership: null as Schemas['Ownership'] | null,
  maker: '',
  model: '',
  person: '',
  identifier: '',
})
/** A real arrival fills it in, to be tried again with changes. */
const route = useRoute()
const page = useTemplateRef<{ $el: HTMLElement }>('page')
const arrival = computed(() => (route.query.try ? Number(route.query.try) : null))
const { data: again } = useQuery({
  queryKey: computed(() => ['arrival', arrival.value]),
  enabled: computed(() => arrival.value !== null),
  queryFn: () =>
    got(
      api.GET('/api/v1/arrivals/{arrival_id}', {
        params: { path: { arrival_id: arrival.value ?? 0 } },
      }),
    ),
})
watch(
  again,
  (found) => {
    if (!found) return
    const text = (name: string) => String(found.stated[name] ?? '')
    Object.assign(imagined, {
      platform: text('platform') || 'android',
      os_version: text('os_version'),
      ownership: null,
      maker: text('maker'),
      model: text('model'),
      person: text('person'),
      identifier: '',
    })
    void nextTick(() => page.value?.$el.scrollIntoView())
    void attempt()
  },
  { immediate: true },
)
const decision = ref<Schemas['Decision'] | null>(null)
const { failure, run } = useAction()

async function attempt() {
  decision.value = null
  await run(async () => {
    decision.value = await got(
      api.POST('/api/v1/gate/try', {
        body: {
          platform: imagined.platform,
          os_version: imagined.os_version || null,
          ownership: imagined.ownership,
          maker: imagined.maker || null,
          model: imagined.model || null,
          person: imagined.person || null,
          identifier: imagined.identifier || null,
          policies: changed ? policies : null,
        },
      }),
    )
  }, false)
}
</script>

<template>
  <v-card ref="page" class="pa-4 stack">
    <h2 id="try">Try a device</h2>
    <p v-if="again">
      As it arrived on {{ atTime(again.at) }}. Change what you like, here or in the policies above.
    </p>
    <p class="muted">
      Nothing is written{{ changed ? '; your changes above are tried, saved or not' : '' }}.
    </p>
    <form class="fields" @submit.prevent="attempt">
      <v-select v-model="imagined.platform" :items="choices('platform')" label="Platform" />
      <v-text-field v-model="imagined.os_version" label="OS version" />
      <v-select
        v-model="imagined.ownership"
        :items="choices('ownership')"
        label="Declared as"
        clearable
      />
      <Picker v-model="imagined.maker" kind="maker" label="Maker" />
      <Picker v-model="imagined.model" kind="model" label="Model" />
      <Picker v-model="imagined.person" kind="person" label="Person" left />
      <v-text-field v-model="imagined.identifier" label="A real device's serial or IMEI" />
      <v-btn type="submit" color="primary" variant="outlined">Try it</v-btn>
    </form>
    <ProblemAlert :error="failure" />
    <div v-if="decision" aria-live="polite">
      <strong v-if="decision.depends" class="tone-warn">{{ decision.depends }}</strong>
      <StageChip v-else :stage="decision.outcome" />
      <div v-for="(reason, place) in decision.reasons" :key="place" class="mt-2">
        {{ reason.explanation }}
        <span class="muted">{{ reason.remedy }}</span>
      </div>
      <GateTrace :trace="decision.trace" class="mt-3" />
    </div>
  </v-card>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(235px, 1fr));
  gap: 8px;
}
</style>
