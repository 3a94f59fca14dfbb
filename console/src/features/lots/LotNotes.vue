<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import { number, plural } from '../../shared/formats'
import { useAction } from '../../shared/actions/useAction'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { vFirst } from '../../shared/fields/first'

type Group = Schemas['NoteGroup']
const {
  lot,
  notes,
  chosen = undefined,
  editable,
} = defineProps<{ lot: Schemas['Lot']; notes: Group[]; chosen?: string; editable: boolean }>()
const { resolution, lotColumns } = useVocabulary()
const emit = defineEmits<{ choose: [code: string | undefined]; settled: [] }>()
const { busy, failure: error, run } = useAction()
const editing = ref<Group | null>(null)
const column = ref('')
const value = ref('')
const choices = computed(() => [
  ...lot.headers,
  ...lotColumns.value.filter((one) => !Object.values(lot.columns).includes(one)),
])
const inTheWay = (group: Group) => group.severity === 'error'
const actable = (group: Group) => editable && (inTheWay(group) || resolution(group.code) !== null)
/** Doubts about numbers can be set aside for a whole column, and for the supplier's next file. */
const trustable = (group: Group) =>
  group.column !== null && resolution(group.code)?.remedy === 'take'

async function carryOut(act: () => Promise<unknown>) {
  if (!(await run(act))) return
  editing.value = null
  emit('settled')
}

const path = computed(() => ({ lot_id: lot.id }))
const resolve = (group: Group, remedy: Schemas['Remedy']) =>
  carryOut(() =>
    got(
      api.POST('/api/v1/lots/{lot_id}/resolve', {
        params: { path: path.value },
        body: { note: group.code, remedy },
      }),
    ),
  )
const trust = (group: Group) =>
  carryOut(() =>
    got(
      api.POST('/api/v1/lots/{lot_id}/settings', {
        params: { path: path.value },
        body: { trusted: { [group.column!]: true } },
      }),
    ),
  )
const save = (group: Group) =>
  carryOut(() =>
    got(
      api.POST('/api/v1/lots/{lot_id}/edit', {
        params: { path: path.value },
        body: { note: group.code, column: column.value, value: value.value || null },
      }),
    ),
  )

function edit(group: Group) {
  Object.assign(editing, { value: group })
  column.value =
    group.column ?? (group.code === 'ambiguous_serial' ? 'maker' : (lot.headers[0] ?? ''))
  value.value = ''
}
</script>

<template>
  <v-card class="pa-4">
    <h2 class="mb-2">Notes, by what is the matter</h2>
    <ProblemAlert :error="error" />
    <v-progress-linear v-if="busy" indeterminate color="primary" aria-label="Checking again" />
    <div v-if="!notes.length" class="muted">Nothing to remark.</div>
    <div
      v-for="group in notes"
      :key="group.code + group.column"
      class="group"
      :class="{ chosen: group.code === chosen }"
    >
      <button
        type="button"
        class="words"
        @click="emit('choose', group.code === chosen ? undefined : group.code)"
      >
        <span
          class="count number"
          :class="{ error: 'tone-bad', warn: 'tone-warn', info: 'muted' }[group.severity]"
          >{{ number(group.rows) }}</span
        >
        <span>
          <strong v-if="group.column">{{ group.column }}: </strong>{{ group.title
          }}<span v-if="group.given" class="muted"
            >, such as <span class="mono">{{ group.given }}</span></span
          >
          <span class="muted remedy">{{ group.remedy }}</span>
        </span>
      </button>
      <div v-if="actable(group)" class="acts">
        <v-btn
          v-if="resolution(group.code)"
          size="small"
          variant="outlined"
          color="primary"
          :disabled="busy"
          @click="resolve(group, resolution(group.code)!.remedy)"
          >{{ resolution(group.code)!.label }}</v-btn
        >
        <v-btn
          v-if="trustable(group)"
          size="small"
          variant="text"
          color="primary"
          :disabled="busy"
          @click="trust(group)"
          >Never doubt this column</v-btn
        >
        <v-btn
          v-if="inTheWay(group)"
          size="small"
          variant="text"
          color="primary"
          :disabled="busy"
          @click="edit(group)"
          >Set a column</v-btn
        >
        <v-btn
          v-if="inTheWay(group)"
          size="small"
          variant="text"
          :disabled="busy"
          :aria-label="`Leave out the rows: ${group.title}`"
          @click="resolve(group, 'skip')"
          >Leave out</v-btn
        >
      </div>
    </div>
    <v-dialog
      :model-value="editing !== null"
      max-width="520"
      aria-label="Set a column of these rows"
      @update:model-value="editing = null"
    >
      <v-card v-if="editing">
        <v-card-title class="pt-4"
          >{{ plural(editing.rows, 'row') }}: {{ editing.title }}</v-card-title
        >
        <v-card-text class="stack">
          <ProblemAlert :error="error" />
          <v-select v-model="column" :items="choices" label="Column" />
          <v-text-field
            v-model="value"
            label="Value for all of them (empty: blank)"
            class="mono"
            v-first
            @keydown.enter="save(editing)"
          />
          <p class="muted">The file as it was given stays. The rows are checked again at once.</p>
        </v-card-text>
        <v-card-actions>
          <v-spacer />
          <v-btn variant="text" @click="editing = null">Cancel</v-btn>
          <v-btn color="primary" variant="flat" :loading="busy" @click="save(editing)"
            >Set it in {{ plural(editing.rows, 'row') }}</v-btn
          >
        </v-card-actions>
      </v-card>
    </v-dialog>
  </v-card>
</template>

<style scoped>
.group {
  display: flex;
  gap: 8px;
  align-items: center;
  border-radius: 5px;
  flex-wrap: wrap;
}
.group:hover,
.group.chosen {
  background: rgba(var(--v-theme-primary), 0.1);
}
.words {
  display: flex;
  gap: 12px;
  flex: 1 1 340px;
  text-align: left;
  padding: 5px 8px;
  cursor: pointer;
  background: none;
  border: 0;
  color: inherit;
  font: inherit;
}
.acts {
  display: flex;
  gap: 2px;
  flex-wrap: wrap;
}
.count {
  min-width: 2.8em;
  font-weight: 650;
}
.remedy {
  display: block;
}
</style>
