<script setup lang="ts">
import { computed, reactive, watch } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import { useAction } from '../../shared/actions/useAction'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'

const { lot, row } = defineProps<{ lot: Schemas['Lot']; row: Schemas['LotRow'] | null }>()
const { resolution } = useVocabulary()
const emit = defineEmits<{ close: []; settled: [] }>()
const cells = reactive<Record<string, string>>({})
const { busy, failure: error, run, forget } = useAction()
const now = (header: string) =>
  (row && header in row.edited ? row.edited[header] : row?.cells[header]) ?? ''
const offered = computed(() => (row?.notes ?? []).flatMap((note) => resolution(note.code) ?? []))

watch(
  () => row,
  () => {
    forget()
    for (const header of lot.headers) cells[header] = now(header)
  },
)

async function carryOut(acts: () => Promise<unknown>) {
  if (!(await run(acts))) return
  emit('settled')
  emit('close')
}

const path = computed(() => ({ lot_id: lot.id }))

function save() {
  return carryOut(async () => {
    for (const header of lot.headers.filter((one) => cells[one] !== now(one))) {
      await got(
        api.POST('/api/v1/lots/{lot_id}/edit', {
          params: { path: path.value },
          body: { rows: [row!.row], column: header, value: cells[header] || null },
        }),
      )
    }
  })
}

const resolve = (remedy: Schemas['Remedy'] | null) =>
  carryOut(() =>
    got(
      api.POST('/api/v1/lots/{lot_id}/resolve', {
        params: { path: path.value },
        body: { rows: [row!.row], remedy },
      }),
    ),
  )
</script>

<template>
  <v-dialog
    :model-value="row !== null"
    max-width="640"
    aria-label="Edit a row"
    @update:model-value="emit('close')"
  >
    <v-card v-if="row">
      <v-card-title class="pt-4">Row {{ row.row }}: {{ row.verdict }}</v-card-title>
      <v-card-text class="stack">
        <ProblemAlert :error="error" />
        <p
          v-for="note in row.notes"
          :key="note.code + note.column"
          :class="{ 'tone-bad': note.severity === 'error', 'tone-warn': note.severity === 'warn' }"
        >
          <strong v-if="note.column">{{ note.column }}: </strong>{{ note.title }}.
          <span class="muted">{{ note.remedy }}</span>
        </p>
        <v-text-field
          v-for="header in lot.headers"
          :key="header"
          v-model="cells[header]"
          :label="header"
          class="mono"
          :hint="header in row.edited ? `as given: ${row.cells[header] ?? '(blank)'}` : ''"
          persistent-hint
          @keydown.enter="save"
        />
      </v-card-text>
      <v-card-actions>
        <v-btn
          v-for="{ remedy, label } in offered"
          :key="remedy"
          variant="outlined"
          color="primary"
          :disabled="busy"
          @click="resolve(remedy)"
          >{{ label }}</v-btn
        >
        <v-btn v-if="row.remedy" variant="text" :disabled="busy" @click="resolve(null)"
          >Undo “{{ row.remedy.replace('_', ' ') }}”</v-btn
        >
        <v-btn v-else variant="text" :disabled="busy" @click="resolve('skip')"
          >Leave the row out</v-btn
        >
        <v-spacer />
        <v-btn variant="text" @click="emit('close')">Cancel</v-btn>
        <v-btn color="primary" variant="flat" :loading="busy" @click="save">Check it again</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>
