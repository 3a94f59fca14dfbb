<script setup lang="ts">
import { mdiDownload } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref, watch } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import { saveFile } from '../../api/files'
import { useAction } from '../../shared/actions/useAction'
import { useDocuments } from '../../shared/actions/useDocuments'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import FilterField from '../../shared/filters/FilterField.vue'
import IdlePicture from './IdlePicture.vue'

/** A rule, with what its window would take as it is moved. */
const { rule } = defineProps<{ rule: Schemas['RuleDetail'] | null }>()
const open = defineModel<boolean>({ required: true })
const rules = useDocuments<Schemas['Rule'], Schemas['RuleDetail']>('/api/v1/sweep-rules')
const { busy, failure, forget } = rules
const taking = useAction()
const form = reactive({
  name: '',
  days: 90,
  filter: '',
  notice: '0',
  remind: '0',
  retention: '0',
  contacts: '',
  hours: '',
  brake: 5,
})
const lines = (text: string) =>
  text
    .split('\n')
    .map((line) => line.trim())
    .filter(Boolean)

watch(open, (is) => {
  if (!is) return
  Object.assign(form, {
    name: rule?.name ?? '',
    days: rule?.idle_window_days ?? 90,
    filter: rule?.filter ?? '',
    notice: String(rule?.dormant_days ?? 0),
    remind: String(rule?.remind_days ?? 0),
    retention: String(rule?.retention_days ?? 0),
    contacts: rule?.contacts?.join('\n') ?? '',
    hours: rule?.every_hours ? String(rule.every_hours) : '',
    brake: rule?.brake_percent ?? 5,
  })
  forget()
  taking.forget()
})

const written = (): Schemas['Rule'] => ({
  name: form.name || 'New rule',
  idle_window_days: Number(form.days),
  filter: form.filter.trim() || null,
  dormant_days: Number(form.notice || 0),
  remind_days: Number(form.remind || 0),
  retention_days: Number(form.retention || 0),
  contacts: lines(form.contacts),
  every_hours: form.hours === '' ? null : Number(form.hours),
  brake_percent: Number(form.brake),
})
/** What is typed, once nobody types for a moment. */
const filter = ref('')
let waiting = 0
watch(
  () => form.filter.trim(),
  (text) => {
    clearTimeout(waiting)
    waiting = window.setTimeout(() => (filter.value = text), 500)
  },
)
const { data: idle } = useQuery({
  queryKey: computed(() => ['idle', filter.value]),
  queryFn: () =>
    got(
      api.POST('/api/v1/sweeps/idle/preview', {
        body: { name: 'Look', idle_window_days: 90, filter: filter.value || null },
      }),
    ),
  enabled: open,
  retry: false,
})

const takeOut = (form: 'csv' | 'xlsx') =>
  taking.run(async () => {
    const content = await got(
      api.POST('/api/v1/sweeps/due/file', {
        params: { query: { form } },
        body: written(),
        parseAs: 'blob',
      }),
    )
    saveFile(content as unknown as Blob, `due.${form}`)
  }, false)

function save() {
  const done = () => (open.value = false)
  void (rule ? rules.edit(rule, written(), done) : rules.add(written(), done))
}
</script>

<template>
  <EditDialog
    v-model="open"
    :title="rule ? `Change “${rule.name}”` : 'Add a rule'"
    label="Preview"
    :failure="failure"
    :busy="busy"
    :ready="form.name !== ''"
    :width="820"
    @save="save"
  >
    <v-text-field v-model="form.name" label="Rule" />
    <FilterField v-model="form.filter" label="Devices in use that it watches (empty: all)" in-use />
    <IdlePicture v-if="idle" v-model="form.days" :idle="idle" />
    <v-text-field v-else v-model.number="form.days" label="Idle window (days)" type="number" />
    <div class="pair">
      <v-text-field
        v-model="form.notice"
        label="Days dormant, with a mail, before it is retired (0: at once)"
        type="number"
        min="0"
        max="365"
      />
      <v-text-field
        v-model="form.remind"
        label="Mail again so many days before (0: not)"
        type="number"
        min="0"
      />
      <v-text-field
        v-model="form.retention"
        label="Days retired, then erased for ever (0: kept)"
        type="number"
        min="0"
        max="3650"
      />
    </div>
    <v-textarea
      v-model="form.contacts"
      label="Who hears of it beside its person: SITE=ADDRESS, or an address for all; one a line"
      rows="2"
      auto-grow
    />
    <div class="pair">
      <v-text-field
        v-model="form.hours"
        label="Runs every so many hours (empty: by hand)"
        type="number"
        min="1"
        max="168"
      />
      <v-text-field
        v-model="form.brake"
        label="Brake (%): a greater share stops and asks"
        type="number"
      />
    </div>
    <ProblemAlert :error="taking.failure.value" />
    <template #more>
      <v-btn variant="text" :prepend-icon="mdiDownload" @click="takeOut('csv')"
        >Who is due, CSV</v-btn
      >
      <v-btn variant="text" :prepend-icon="mdiDownload" @click="takeOut('xlsx')">XLSX</v-btn>
    </template>
  </EditDialog>
</template>
