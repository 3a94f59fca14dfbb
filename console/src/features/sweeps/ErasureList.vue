<script setup lang="ts">
import { mdiDownload } from '@mdi/js'

import { at } from '../../api/base'
import { api, got, type Schemas } from '../../api/client'
import { atTime, number } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import { usePages } from '../../shared/tables/usePages'

const erasures = usePages<Schemas['Erasure']>(['erasures'], (cursor) =>
  got(api.GET('/api/v1/erasures', { params: { query: { cursor } } })),
)
const columns = [
  { key: 'id', title: 'Certificate', number: true },
  { key: 'at', title: 'At' },
  { key: 'by', title: 'By' },
  { key: 'devices', title: 'Devices', number: true },
  { key: 'act', title: '' },
]
</script>

<template>
  <h2 class="mt-6 mb-2">Erased for ever</h2>
  <DataList
    label="Erasures"
    :columns="columns"
    :items="erasures.items.value"
    :row-key="(one) => one.id"
    :loading="erasures.isFetching.value"
    :error="erasures.error.value"
    :more="erasures.hasNextPage.value"
    empty="Nothing was erased. A rule’s retention, or a coordinator, erases retired devices."
    @more="erasures.fetchNextPage()"
  >
    <template #at="{ item }"
      ><router-link :to="`/journal?entry=${item.entry_id}`">{{
        atTime(item.at)
      }}</router-link></template
    >
    <template #devices="{ item }">{{ number(item.devices) }}</template>
    <template #act="{ item }"
      ><v-btn
        size="small"
        variant="text"
        color="primary"
        :prepend-icon="mdiDownload"
        :href="at(`/api/v1/erasures/${item.id}/certificate`)"
        :download="`certificate-${item.id}.json`"
        >Certificate {{ item.id }}</v-btn
      ></template
    >
  </DataList>
</template>
