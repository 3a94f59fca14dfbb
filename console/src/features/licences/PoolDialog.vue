<script setup lang="ts">
import { computed, reactive, watch } from 'vue'

import type { Schemas } from '../../api/client'
import { useDocuments } from '../../shared/actions/useDocuments'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import FilterField from '../../shared/filters/FilterField.vue'

/** A new pool, or a change of one. */
const { pool } = defineProps<{ pool: Schemas['PoolDetail'] | null }>()
const open = defineModel<boolean>({ required: true })
const { choices } = useVocabulary()
const pools = useDocuments<Schemas['Pool'], Schemas['PoolDetail']>('/api/v1/pools')
const { busy, failure, forget } = pools
const form = reactive({
  name: '',
  seats: '0',
  filter: '',
  awaited_too: false,
  product: '',
  term: 'shared' as Schemas['Term'],
  grace_days: '0',
  when_short: 'admit' as Schemas['Shortage'],
  price: '',
  currency: '',
})
const ready = computed(() => form.name.trim() !== '')

watch(
  open,
  (is) => {
    if (!is) return
    Object.assign(form, {
      name: pool?.name ?? '',
      seats: String(pool?.seats ?? 0),
      filter: pool?.filter ?? '',
      awaited_too: pool?.awaited_too ?? false,
      product: pool?.product ?? '',
      term: pool?.term ?? 'shared',
      grace_days: String(pool?.grace_days ?? 0),
      when_short: pool?.when_short ?? 'admit',
      price: pool?.price ?? '',
      currency: pool?.currency ?? '',
    })
    forget()
  },
  { immediate: true },
)

function save() {
  const document = {
    name: form.name,
    seats: Number(form.seats || 0),
    filter: form.filter.trim() || null,
    awaited_too: form.awaited_too,
    product: form.product.trim() || null,
    term: form.term,
    grace_days: Number(form.grace_days || 0),
    when_short: form.when_short,
    price: form.price === '' ? null : String(form.price),
    currency: form.currency.trim().toUpperCase() || null,
  }
  const done = () => (open.value = false)
  void (pool ? pools.edit(pool, document, done) : pools.add(document, done))
}
</script>

<template>
  <EditDialog
    v-model="open"
    :title="pool ? `Change ${pool.name}` : 'Add a pool'"
    label="Preview"
    :failure="failure"
    :busy="busy"
    :ready="ready"
    :width="820"
    @save="save"
  >
    <div class="pair">
      <v-text-field v-model="form.name" label="Name" />
      <v-text-field
        v-model="form.product"
        label="Product of its vouchers (empty: the name)"
        persistent-placeholder
      />
    </div>
    <FilterField
      v-model="form.filter"
      label="Devices in use that need a seat (empty: all)"
      in-use
      :awaited-too="form.awaited_too"
    />
    <v-checkbox
      v-model="form.awaited_too"
      label="Devices that have not arrived take a seat too"
      hide-details
    />
    <div class="pair">
      <v-text-field
        v-model="form.seats"
        label="Seats without an end, beside those of vouchers"
        type="number"
        min="0"
      />
      <v-select v-model="form.term" :items="choices('term')" label="Seats of vouchers" />
      <v-text-field
        v-model="form.grace_days"
        label="Days of grace after an end"
        type="number"
        min="0"
        max="365"
      />
      <v-select
        v-model="form.when_short"
        :items="choices('shortage')"
        label="An arriving device that finds no seat is"
      />
      <v-text-field
        v-model="form.price"
        label="Price of a seat for a month (empty: not known)"
        type="number"
        min="0"
        step="0.01"
      />
      <v-text-field v-model="form.currency" label="Currency, such as EUR" maxlength="3" />
    </div>
  </EditDialog>
</template>
