<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, got, listed, type Schemas } from '../../api/client'
import { useAction } from '../../shared/actions/useAction'
import { usePreview } from '../../shared/actions/usePreview'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { onDay } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import { numbersOf } from './sources'

/** What a registry holds, and what it is asked to do with it. */
const { source } = defineProps<{ source: Schemas['SourceDetail'] }>()
const preview = usePreview()
const looking = useAction()
const { choices } = useVocabulary()
const query = ref('')
const held = ref<Schemas['HeldDevice'][] | null>(null)
const chosen = ref<string[]>([])
const pasted = ref('')
const act = ref<Schemas['RegistryAct']>('assign')
const path = computed(() => ({ key: String(source.id) }))
const columns = [
  { key: 'serial', title: 'Serial number' },
  { key: 'model', title: 'Model' },
  { key: 'reseller', title: 'Reseller' },
  { key: 'order', title: 'Order' },
  { key: 'added_at', title: 'Added' },
  { key: 'assigned_to', title: 'Assigned to' },
  { key: 'sheet', title: 'Setup sheet' },
]
const devices = computed(() => [...chosen.value, ...numbersOf(pasted.value)])
const sheet = ref('')
const document = computed(() => {
  try {
    const found: unknown = JSON.parse(sheet.value)
    return found && typeof found === 'object' && !Array.isArray(found) ? found : null
  } catch {
    return null
  }
})
const ready = computed(
  () => devices.value.length > 0 && (act.value !== 'set-sheet' || document.value !== null),
)

/** Read a file into a field. */
async function take(given: File | File[] | null, into: (text: string) => void) {
  const file = Array.isArray(given) ? given[0] : given
  if (file) into(await file.text())
}

function askThis() {
  const given =
    act.value === 'set-sheet' ? { sheet: document.value as Record<string, unknown> } : {}
  ask({ act: act.value, devices: devices.value, ...given })
}

function find() {
  void looking.run(async () => {
    const params = { path: path.value, query: { query: query.value } }
    held.value = await listed(api.GET('/api/v1/sources/{key}/held', { params }))
    chosen.value = []
  }, false)
}

function ask(body: Schemas['RegistryActAsked']) {
  void preview.open({
    look: () =>
      got(api.POST('/api/v1/sources/{key}/acts/preview', { params: { path: path.value }, body })),
    act: (digest, reason) =>
      got(
        api.POST('/api/v1/sources/{key}/acts', {
          params: { path: path.value },
          body: { ...body, digest, reason },
        }),
      ),
    done: () => held.value && find(),
  })
}
</script>

<template>
  <v-card class="pa-3 mt-3">
    <h2>At the registry</h2>
    <form class="line" @submit.prevent="find">
      <v-text-field v-model="query" label="Serial number, IMEI, order or reseller" />
      <v-btn
        type="submit"
        variant="outlined"
        color="primary"
        :disabled="query.trim().length < 2"
        :loading="looking.busy.value"
        >Find there</v-btn
      >
      <v-btn
        v-if="held?.length && held[0]"
        variant="text"
        color="primary"
        @click="ask({ act: 'assign', reseller: held[0].reseller })"
        >Take all of {{ held[0].reseller }}, now and later</v-btn
      >
    </form>
    <ProblemAlert :error="looking.failure.value" />
    <DataList
      v-if="held"
      v-model:selected="chosen"
      label="Devices at the registry"
      :columns="columns"
      :items="held"
      :row-key="(one) => one.key"
      height="260px"
      empty="Nothing of that name."
    >
      <template #added_at="{ item }">{{ onDay(item.added_at) }}</template>
      <template #assigned_to="{ item }">{{ item.assigned_to ?? 'nobody' }}</template>
      <template #sheet="{ item }">{{ item.sheet_digest?.slice(0, 8) ?? '–' }}</template>
    </DataList>
    <div class="line mt-2">
      <v-textarea
        v-model="pasted"
        label="Or paste serial numbers"
        rows="1"
        auto-grow
        max-rows="6"
      />
      <v-select v-model="act" :items="choices('registry_act')" label="What is to be done" />
      <v-btn color="primary" :disabled="!ready" @click="askThis"
        >Preview ({{ devices.length }})</v-btn
      >
    </div>
    <div class="line">
      <v-file-input
        label="Or a list as CSV or text"
        accept=".csv,.txt"
        @update:model-value="take($event, (text) => (pasted = text))"
      />
    </div>
    <div v-if="act === 'set-sheet'" class="line">
      <v-textarea
        v-model="sheet"
        label="The setup sheet, as JSON"
        rows="3"
        auto-grow
        max-rows="12"
        class="mono"
        :error-messages="sheet && !document ? 'This is no JSON object.' : ''"
      />
      <v-file-input
        label="Or its file"
        accept=".json"
        @update:model-value="take($event, (text) => (sheet = text))"
      />
    </div>
  </v-card>
</template>

<style scoped>
h2 {
  font-size: 1rem;
  margin-bottom: 8px;
}
.line {
  display: grid;
  grid-template-columns: minmax(220px, 420px) auto auto;
  gap: 8px;
  align-items: start;
  justify-content: start;
}
@media (max-width: 640px) {
  .line {
    grid-template-columns: 1fr;
  }
}
</style>
