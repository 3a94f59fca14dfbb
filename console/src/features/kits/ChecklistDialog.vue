<script setup lang="ts">
import { computed, reactive, watch } from 'vue'

import type { Schemas } from '../../api/client'
import { useDocuments } from '../../shared/actions/useDocuments'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import GivenField from './GivenField.vue'

/** A new checklist, or a change of one. */
const { checklist } = defineProps<{ checklist: Schemas['ChecklistDetail'] | null }>()
const open = defineModel<boolean>({ required: true })
const { choices } = useVocabulary()
const checklists = useDocuments<Schemas['Checklist'], Schemas['ChecklistDetail']>(
  '/api/v1/checklists',
)
const items = useDocuments<Schemas['Item'], Schemas['ItemDetail']>('/api/v1/items').useList()
const names = computed(() => (items.data.value ?? []).map((one) => one.name))
const { busy, failure, forget } = checklists
const form = reactive({
  name: '',
  position: '100',
  items: [] as string[],
  own_order: false,
  limit_minutes: '60',
  every_start: false,
  on_expiry: 'hold' as Schemas['Expiry'],
  message: '',
  logs: false,
  given: [] as Schemas['Given'][],
  note: '',
})

watch(
  open,
  (is) => {
    if (!is) return
    Object.assign(form, {
      name: checklist?.name ?? '',
      position: String(checklist?.position ?? 100),
      items: [...(checklist?.items ?? [])],
      own_order: checklist?.own_order ?? false,
      limit_minutes: String(checklist?.limit_minutes ?? 60),
      every_start: checklist?.every_start ?? false,
      on_expiry: checklist?.on_expiry ?? 'hold',
      message: checklist?.message ?? '',
      logs: checklist?.logs ?? false,
      given: [...(checklist?.given ?? [])],
      note: checklist?.note ?? '',
    })
    forget()
  },
  { immediate: true },
)

function save() {
  const document = {
    ...form,
    position: Number(form.position),
    limit_minutes: Number(form.limit_minutes),
    message: form.message.trim() || null,
    note: form.note.trim() || null,
  }
  const done = () => (open.value = false)
  void (checklist ? checklists.edit(checklist, document, done) : checklists.add(document, done))
}
</script>

<template>
  <EditDialog
    v-model="open"
    :title="checklist ? `Change ${checklist.name}` : 'Make a checklist'"
    label="Preview"
    :failure="failure"
    :busy="busy"
    :ready="form.name.trim() !== '' && form.items.length > 0"
    :width="760"
    @save="save"
  >
    <div class="pair">
      <v-text-field v-model="form.name" label="Checklist" />
      <v-text-field
        v-model="form.position"
        label="Position (of two checklists the smaller number wins)"
        type="number"
        min="1"
      />
    </div>
    <v-autocomplete
      v-model="form.items"
      :items="names"
      label="Items that must be done"
      multiple
      chips
      closable-chips
    />
    <v-checkbox
      v-model="form.own_order"
      label="In this order; else what others lean on comes first"
      hide-details
    />
    <div class="pair">
      <v-text-field
        v-model="form.limit_minutes"
        label="Minutes to wait, 5 to 1,440"
        type="number"
        min="5"
        max="1440"
      />
      <v-select v-model="form.on_expiry" :items="choices('expiry')" label="Then" />
    </div>
    <v-text-field v-model="form.message" label="What the person reads meanwhile" />
    <div class="row-gap">
      <v-checkbox v-model="form.every_start" label="Also when a device comes back" hide-details />
      <v-checkbox v-model="form.logs" label="Logs come along when an item fails" hide-details />
    </div>
    <GivenField v-model="form.given" alone />
    <v-text-field v-model="form.note" label="Note" placeholder="What it is for" />
  </EditDialog>
</template>
