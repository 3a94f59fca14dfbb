<script setup lang="ts">
import { computed, reactive, watch } from 'vue'

import type { Schemas } from '../../api/client'
import { useDocuments } from '../../shared/actions/useDocuments'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import GivenField from './GivenField.vue'

/** A new kit, or a change of one. */
const { kit } = defineProps<{ kit: Schemas['KitDetail'] | null }>()
const open = defineModel<boolean>({ required: true })
const kits = useDocuments<Schemas['Kit'], Schemas['KitDetail']>('/api/v1/kits')
const items = useDocuments<Schemas['Item'], Schemas['ItemDetail']>('/api/v1/items').useList()
const { busy, failure, forget } = kits
const form = reactive({
  name: '',
  position: '100',
  items: [] as string[],
  given: [] as Schemas['Given'][],
  note: '',
})
const choices = computed(() =>
  (items.data.value ?? []).map((one) => ({ title: one.name, value: one.name, subtitle: one.says })),
)

watch(
  open,
  (is) => {
    if (!is) return
    Object.assign(form, {
      name: kit?.name ?? '',
      position: String(kit?.position ?? 100),
      items: [...(kit?.items ?? [])],
      given: [...(kit?.given ?? [])],
      note: kit?.note ?? '',
    })
    forget()
  },
  { immediate: true },
)

function save() {
  const document = {
    name: form.name,
    position: Number(form.position),
    items: form.items,
    given: form.given,
    note: form.note.trim() || null,
  }
  const done = () => (open.value = false)
  void (kit ? kits.edit(kit, document, done) : kits.add(document, done))
}
</script>

<template>
  <EditDialog
    v-model="open"
    :title="kit ? `Change ${kit.name}` : 'Make a kit'"
    label="Preview"
    :failure="failure"
    :busy="busy"
    :ready="form.name.trim() !== ''"
    :width="760"
    @save="save"
  >
    <div class="pair">
      <v-text-field v-model="form.name" label="Kit" />
      <v-text-field
        v-model="form.position"
        label="Position (of two kits the smaller number wins)"
        type="number"
        min="1"
      />
    </div>
    <v-autocomplete
      v-model="form.items"
      :items="choices"
      :item-props="(one) => ({ title: one.title, subtitle: one.subtitle })"
      label="Items"
      multiple
      chips
      closable-chips
    />
    <GivenField v-model="form.given" />
    <v-text-field v-model="form.note" label="Note" placeholder="What it is for" />
  </EditDialog>
</template>
