<script setup lang="ts">
import { api, got, type Schemas } from '../../api/client'
import DataList from '../../shared/tables/DataList.vue'
import { number, onDay } from '../../shared/formats'
import { usePages } from '../../shared/tables/usePages'
import { useVocabulary } from '../../shared/actions/useVocabulary'

const { label } = useVocabulary()
const passes = usePages<Schemas['Pass']>(['passes'], (cursor) =>
  got(api.GET('/api/v1/passes', { params: { query: { cursor } } })),
)
const columns = [
  { key: 'label', title: 'Pass' },
  { key: 'state', title: 'State' },
  { key: 'uses', title: 'Uses', number: true },
  { key: 'whom', title: 'For' },
  { key: 'sign_in', title: 'Person proven by' },
  { key: 'activation', title: 'Devices come into use' },
  { key: 'ownership', title: 'Declares' },
  { key: 'valid_until', title: 'Until' },
]
const whom = (pass: Schemas['Pass']) =>
  pass.made > 1
    ? `${number(pass.made)} people, ${number(pass.used)} came`
    : (pass.person_name ?? 'anybody')
</script>

<template>
  <DataList
    label="Passes"
    :columns="columns"
    :items="passes.items.value"
    :row-key="(one) => one.id"
    :loading="passes.isFetching.value"
    :error="passes.error.value"
    :more="passes.hasNextPage.value"
    empty="No passes yet: make one, print its QR, hand it out."
    @more="passes.fetchNextPage()"
  >
    <template #label="{ item }"
      ><router-link :to="`/passes/${item.id}`">{{ item.label }}</router-link></template
    >
    <template #uses="{ item }"
      >{{ number(item.uses) }}{{ item.max_uses ? ` of ${number(item.max_uses)}` : '' }}</template
    >
    <template #whom="{ item }">{{ whom(item) }}</template>
    <template #sign_in="{ item }">{{
      item.has_passcode ? 'a passcode' : label('sign_in_way', item.sign_in)
    }}</template>
    <template #activation="{ item }">{{ label('activation', item.activation) }}</template>
    <template #ownership="{ item }">{{
      item.asks_ownership ? 'asks the person' : (item.ownership ?? '–')
    }}</template>
    <template #valid_until="{ item }"
      ><span class="nowrap">{{ onDay(item.valid_until) }}</span></template
    >
  </DataList>
</template>
