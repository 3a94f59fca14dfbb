<script setup lang="ts">
import { mdiDownload, mdiPrinter } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { at } from '../../api/base'
import { api, got } from '../../api/client'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import { number, onDay } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'

/** A month of every pool, on a page that prints. */
const { label } = useVocabulary()
const month = ref('')
const shown = computed({
  get: () => month.value || (data.value?.first_on.slice(0, 7) ?? ''),
  set: (chosen) => (month.value = chosen),
})
const { data, error, isFetching } = useQuery({
  queryKey: computed(() => ['licence-report', month.value]),
  queryFn: () =>
    got(api.GET('/api/v1/licences/report', { params: { query: { month: month.value || null } } })),
})
const file = (form: string) => {
  const asked = new URLSearchParams({ form, ...(month.value ? { month: month.value } : {}) })
  return at(`/api/v1/licences/report/file?${asked}`)
}
const columns = [
  { key: 'pool', title: 'Pool' },
  { key: 'state', title: 'State' },
  { key: 'needed', title: 'Needed', number: true },
  { key: 'seats', title: 'Seats', number: true },
  { key: 'came', title: 'Came', number: true },
  { key: 'went', title: 'Went', number: true },
  { key: 'vouchers', title: 'Vouchers' },
  { key: 'ends_on', title: 'Seats end on' },
  { key: 'cost', title: 'Cost', number: true },
]
const print = () => window.print()
</script>

<template>
  <div class="page-head">
    <h1>Licences, {{ onDay(data?.first_on) }} to {{ onDay(data?.last_on) }}</h1>
    <v-spacer />
    <div class="tools">
      <v-text-field v-model="shown" type="month" label="Month" hide-details class="month" />
      <v-btn variant="outlined" :prepend-icon="mdiDownload" :href="file('csv')">CSV</v-btn>
      <v-btn variant="outlined" :prepend-icon="mdiDownload" :href="file('xlsx')">XLSX</v-btn>
      <v-btn variant="outlined" :prepend-icon="mdiPrinter" @click="print">Print</v-btn>
    </div>
  </div>
  <p class="muted">
    Numbers are those of the last day. What was needed is counted back from today by the days on
    which devices came and went.
  </p>
  <DataList
    label="Licences of the month"
    :columns="columns"
    :items="data?.pools ?? []"
    :row-key="(one) => one.pool_id"
    :loading="isFetching"
    :error="error"
    empty="No pools yet."
  >
    <template #pool="{ item }"
      ><router-link :to="`/licences/${item.pool_id}`">{{ item.pool }}</router-link></template
    >
    <template #state="{ item }">{{ label('pool_state', item.state) }}</template>
    <template #needed="{ item }">{{ number(item.needed) }}</template>
    <template #seats="{ item }">{{ number(item.seats) }}</template>
    <template #came="{ item }">{{ number(item.came) }}</template>
    <template #went="{ item }">{{ number(item.went) }}</template>
    <template #vouchers="{ item }">{{
      item.vouchers.map((one) => one.used_as).join(', ') || '–'
    }}</template>
    <template #ends_on="{ item }">{{ onDay(item.ends_on) }}</template>
    <template #cost="{ item }"
      ><template v-if="item.cost !== null">{{ item.cost }} {{ item.currency }}</template
      ><template v-else>–</template></template
    >
  </DataList>
</template>

<style scoped>
.tools {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
}
.month {
  width: 180px;
}
@media print {
  .tools {
    display: none;
  }
}
</style>
