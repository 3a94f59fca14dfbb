<script setup lang="ts">
import { computed } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import { words } from '../../shared/formats'
import { useAction } from '../../shared/actions/useAction'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'

const { lot, editable } = defineProps<{ lot: Schemas['Lot']; editable: boolean }>()
const { identifierColumns, lotColumns } = useVocabulary()
const emit = defineEmits<{ settled: [] }>()
const { busy, failure: error, run } = useAction()
const unidentified = computed(
  () => !Object.values(lot.columns).some((column) => identifierColumns.value.includes(column)),
)
const origin: Record<string, string> = {
  remembered: 'as corrected for this supplier before',
  given: 'as corrected by hand',
}

async function readAgain(body: Schemas['LotSettings']) {
  const done = await run(() =>
    got(api.POST('/api/v1/lots/{lot_id}/settings', { params: { path: { lot_id: lot.id } }, body })),
  )
  if (done) emit('settled')
}

const mean = (header: string, event: Event) =>
  readAgain({ columns: { [header]: (event.target as HTMLSelectElement).value || null } })
</script>

<template>
  <v-card class="pa-4">
    <h2 class="mb-1">Columns</h2>
    <p v-if="origin[lot.columns_from]" class="muted mb-2">{{ origin[lot.columns_from] }}</p>
    <v-alert v-if="unidentified" type="warning" class="mb-2"
      >No column holds an identifier. Say which one does.</v-alert
    >
    <ProblemAlert :error="error" />
    <v-progress-linear v-if="busy" indeterminate color="primary" aria-label="Checking anew" />
    <label v-if="lot.sheets.length > 1" class="meaning">
      <span>Sheet</span>
      <select
        :value="lot.sheet ?? ''"
        :disabled="!editable || busy"
        @change="readAgain({ sheet: ($event.target as HTMLSelectElement).value })"
      >
        <option v-for="sheet in lot.sheets" :key="sheet">{{ sheet }}</option>
      </select>
    </label>
    <div v-for="header in lot.headers" :key="header" class="meaning">
      <span class="mono header">{{ header }}</span>
      <span aria-hidden="true">→</span>
      <select
        v-if="editable"
        :value="lot.columns[header] ?? ''"
        :disabled="busy"
        :aria-label="`What ${header} means`"
        :class="{ muted: !lot.columns[header] }"
        @change="mean(header, $event)"
      >
        <option value="">kept as detail</option>
        <option v-for="column in lotColumns" :key="column" :value="column">
          {{ words(column) }}
        </option>
      </select>
      <strong v-else-if="lot.columns[header]">{{ words(lot.columns[header] ?? '') }}</strong>
      <span v-else class="muted">kept as detail</span>
    </div>
    <p class="muted mt-2">
      {{ lot.layout }}<template v-if="lot.encoding">, {{ lot.encoding }}</template
      ><template v-if="lot.header_row > 1">, headers on line {{ lot.header_row }}</template>
    </p>
  </v-card>
</template>

<style scoped>
.meaning {
  display: flex;
  gap: 8px;
  padding: 2px 0;
  align-items: center;
}
.header {
  flex: 1 1 50%;
  overflow-wrap: anywhere;
}
select {
  flex: 1 1 45%;
  min-width: 0;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.3);
  border-radius: 4px;
  padding: 2px 4px;
  background: rgb(var(--v-theme-surface));
  color: inherit;
  font: inherit;
}
</style>
