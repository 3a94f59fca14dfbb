<script setup lang="ts">
import { computed, reactive, watch } from 'vue'

import type { Schemas } from '../../api/client'
import { useDocuments } from '../../shared/actions/useDocuments'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import GivenField from './GivenField.vue'

/** A new setup sheet, or a change of one. */
const { sheet } = defineProps<{ sheet: Schemas['SheetDetail'] | null }>()
const open = defineModel<boolean>({ required: true })
const { choices } = useVocabulary()
const items = useDocuments<Schemas['Item'], Schemas['ItemDetail']>('/api/v1/items').useList()
const networks = computed(() =>
  (items.data.value ?? []).filter((one) => one.payload.kind === 'network').map((one) => one.name),
)
const sheets = useDocuments<Schemas['SetupSheet'], Schemas['SheetDetail']>('/api/v1/setup-sheets')
const { busy, failure, forget } = sheets
const form = reactive({
  name: '',
  position: '100',
  reach: 'whole' as Schemas['Reach'],
  account: 'usual' as Schemas['AccountType'],
  local_administrator: '',
  skipped: [] as Schemas['FirstStep'][],
  language: '',
  region: '',
  keyboard: '',
  joins: null as string | null,
  name_template: '',
  locked: true,
  pairs_with_computers: true,
  given: [] as Schemas['Given'][],
  note: '',
})

watch(
  open,
  (is) => {
    if (!is) return
    Object.assign(form, {
      name: sheet?.name ?? '',
      position: String(sheet?.position ?? 100),
      reach: sheet?.reach ?? 'whole',
      account: sheet?.account ?? 'usual',
      local_administrator: sheet?.local_administrator ?? '',
      skipped: [...(sheet?.skipped ?? [])],
      language: sheet?.language ?? '',
      region: sheet?.region ?? '',
      keyboard: sheet?.keyboard ?? '',
      joins: sheet?.joins ?? null,
      name_template: sheet?.name_template ?? '',
      locked: sheet?.locked ?? true,
      pairs_with_computers: sheet?.pairs_with_computers ?? true,
      given: [...(sheet?.given ?? [])],
      note: sheet?.note ?? '',
    })
    forget()
  },
  { immediate: true },
)

function save() {
  const document = {
    ...form,
    position: Number(form.position),
    local_administrator: form.local_administrator.trim() || null,
    language: form.language.trim() || null,
    region: form.region.trim().toUpperCase() || null,
    keyboard: form.keyboard.trim() || null,
    name_template: form.name_template.trim() || null,
    note: form.note.trim() || null,
  }
  const done = () => (open.value = false)
  void (sheet ? sheets.edit(sheet, document, done) : sheets.add(document, done))
}
</script>

<template>
  <EditDialog
    v-model="open"
    :title="sheet ? `Change ${sheet.name}` : 'Make a setup sheet'"
    label="Preview"
    :failure="failure"
    :busy="busy"
    :ready="form.name.trim() !== ''"
    :width="780"
    @save="save"
  >
    <div class="pair">
      <v-text-field v-model="form.name" label="Setup sheet" />
      <v-text-field
        v-model="form.position"
        label="Position (of two sheets the smaller number wins)"
        type="number"
        min="1"
      />
      <v-select v-model="form.reach" :items="choices('reach')" label="Looked after" />
      <v-select v-model="form.account" :items="choices('account_type')" label="The person is" />
      <v-text-field
        v-model="form.local_administrator"
        label="Local administrator (empty: none)"
        autocomplete="off"
      />
      <v-text-field v-model="form.keyboard" label="Keyboard (empty: the device’s own)" />
      <v-text-field v-model="form.language" label="Language, such as no or en-GB" />
      <v-text-field v-model="form.region" label="Region, such as NO" maxlength="2" />
      <v-autocomplete
        v-model="form.joins"
        :items="networks"
        label="Network that it joins (empty: none)"
        no-data-text="No item is a network."
        clearable
      />
      <v-text-field
        v-model="form.name_template"
        label="Calls itself (empty: as it came)"
        class="mono"
        placeholder="BRIDGE-{serial|last 4}"
      />
    </div>
    <v-select
      v-model="form.skipped"
      :items="choices('first_step')"
      label="Steps that are not shown"
      multiple
      chips
      closable-chips
    />
    <div class="row-gap">
      <v-checkbox v-model="form.locked" label="Nobody at the device takes it out" hide-details />
      <v-checkbox
        v-model="form.pairs_with_computers"
        label="Other computers can be paired by cable"
        hide-details
      />
    </div>
    <GivenField v-model="form.given" alone />
    <v-text-field v-model="form.note" label="Note" placeholder="What it is for" />
  </EditDialog>
</template>
