<script setup lang="ts">
import { api, got, type Schemas } from '../../api/client'
import { atTime } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import { usePages } from '../../shared/tables/usePages'
import { type Language, LANGUAGES } from '../welcome/words'

/** Who accepted terms at the door, and which version of them. */
const { terms } = defineProps<{ terms: Schemas['TermsDetail'] }>()
const accepted = usePages<Schemas['Acceptance']>(['acceptances', terms.id], (cursor) =>
  got(
    api.GET('/api/v1/terms/{key}/acceptances', {
      params: { path: { key: String(terms.id) }, query: { cursor } },
    }),
  ),
)
const columns = [
  { key: 'at', title: 'At' },
  { key: 'revision', title: 'Version', number: true },
  { key: 'language', title: 'Language' },
  { key: 'person', title: 'Person' },
  { key: 'device', title: 'Device' },
]
</script>

<template>
  <h3 class="mt-4 mb-2">Who accepted “{{ terms.name }}”</h3>
  <DataList
    :label="`Who accepted “${terms.name}”`"
    :columns="columns"
    :items="accepted.items.value"
    :row-key="(one) => one.id"
    :loading="accepted.isFetching.value"
    :error="accepted.error.value"
    :more="accepted.hasNextPage.value"
    empty="Nobody has accepted them yet."
    @more="accepted.fetchNextPage()"
  >
    <template #at="{ item }">{{ atTime(item.at) }}</template>
    <template #language="{ item }">{{
      LANGUAGES[item.language as Language] ?? item.language
    }}</template>
    <template #person="{ item }">
      <router-link v-if="item.person_id" :to="`/people?person=${item.person_id}`">{{
        item.person_name ?? item.person
      }}</router-link>
      <template v-else>somebody who is not known here</template>
    </template>
    <template #device="{ item }"
      ><router-link v-if="item.device_id" :to="`/devices/${item.device_id}`"
        >Device {{ item.device_id }}</router-link
      ><template v-else>–</template></template
    >
  </DataList>
</template>
