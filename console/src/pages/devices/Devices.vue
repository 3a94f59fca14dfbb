<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, got, type Schemas } from '../../api/client'
import DataList from '../../shared/DataList.vue'
import { number, ownerships, platforms, stages } from '../../shared/formats'
import StageChip from '../../shared/StageChip.vue'
import { usePages } from '../../shared/usePages'
import { usePreview } from '../../shared/usePreview'
import { useSession } from '../../shared/useSession'

type Ownership = Schemas['Ownership']
const route = useRoute()
const router = useRouter()
const session = useSession()
const preview = usePreview()
const chosen = ref<(string | number)[]>([])
const ownership = ref<Ownership>('corporate')
const sorts = [
  { title: 'Number', value: 'id' }, { title: 'Name', value: 'name' }, { title: 'Site', value: 'site' }, { title: 'Model', value: 'model' }, { title: 'Longest unseen', value: 'seen' },
]
const text = (name: string) => (route.query[name] ? String(route.query[name]) : undefined)
const whole = (name: string) => (route.query[name] ? Number(route.query[name]) : undefined)
const asked = computed(() => ({
  query: text('query'), stage: text('stage') ? [text('stage') as Schemas['Stage']] : undefined, platform: text('platform') ? [text('platform') as Schemas['Platform']] : undefined,
  ownership: text('ownership') ? [text('ownership') as Ownership] : undefined, site: text('site') ? [String(text('site'))] : undefined,
  lot: whole('lot'), person: whole('person'), pool: whole('pool'), idle_days_min: whole('idle'), filter: text('filter'), sort: (text('sort') ?? 'id') as 'id',
}))
const { data: facets } = useQuery({ queryKey: ['facets'], queryFn: () => got(api.GET('/api/v1/devices/facets')) })
const { data: pools } = useQuery({ queryKey: ['pools'], queryFn: () => got(api.GET('/api/v1/pools')), enabled: computed(() => asked.value.pool !== undefined) })
const pool = computed(() => pools.value?.find((one) => one.id === asked.value.pool))
const { items, total, error, isFetching, hasNextPage, fetchNextPage } = usePages<Schemas['Device']>(
  () => ['devices', asked.value],
  (cursor) => got(api.GET('/api/v1/devices', { params: { query: { ...asked.value, cursor, total: true } } })),
)
const sites = computed(() => Object.keys(facets.value?.site ?? {}).sort())
const counted = (facet: string, values: readonly string[]) => values.map((value) => ({ title: `${value} (${number(facets.value?.[facet]?.[value] ?? 0)})`, value }))
const columns = [
  { key: 'name', title: 'Name' }, { key: 'stage', title: 'Stage' }, { key: 'platform', title: 'Platform' }, { key: 'model', title: 'Model' }, { key: 'ownership', title: 'Ownership' },
  { key: 'person', title: 'Person' }, { key: 'site', title: 'Site' }, { key: 'serial', title: 'Serial' }, { key: 'idle_days', title: 'Days idle', number: true },
]

function set(name: string, value: unknown) {
  chosen.value = []
  void router.push({ query: { ...route.query, [name]: value ? String(value) : undefined } })
}

function declare() {
  const body = { selection: { ids: chosen.value.map(Number) }, ownership: ownership.value }
  void preview.open({
    look: () => got(api.POST('/api/v1/devices/declare/preview', { body })),
    act: (digest, reason) => got(api.POST('/api/v1/devices/declare/apply', { body: { ...body, digest, reason } })),
    done: () => (chosen.value = []),
  })
}

const list = computed(() => {
  const query = new URLSearchParams({ limit: '500' })
  for (const [name, value] of Object.entries(asked.value)) for (const one of Array.isArray(value) ? value : value === undefined ? [] : [value]) query.append(name, String(one))
  return `/api/v1/devices?${query}`
})

async function download() {
  const response = await fetch(list.value, { headers: { Accept: 'text/csv' } })
  const link = document.createElement('a')
  link.href = URL.createObjectURL(await response.blob())
  link.download = 'devices.csv'
  link.click()
  URL.revokeObjectURL(link.href)
}
</script>

<template>
  <div class="page-head">
    <h1>Devices</h1>
    <span v-if="total !== null" class="muted" aria-live="polite">{{ number(total) }} {{ total === 1 ? 'device fits' : 'devices fit' }}</span>
    <v-btn variant="text" title="The first 500 that fit" @click="download">CSV</v-btn>
  </div>
  <v-text-field
    :model-value="text('filter')" label="Filter" class="mono mb-2" clearable spellcheck="false" autocomplete="off"
    placeholder="site sw &quot;Quill&quot; and idleDays ge 90 and not (tags eq &quot;spare&quot;)" persistent-placeholder
    @change="set('filter', ($event.target as HTMLInputElement).value)" @click:clear="set('filter', null)"
  />
  <div class="filters mb-3">
    <v-select :model-value="text('stage')" :items="counted('stage', stages)" label="Stage" clearable @update:model-value="set('stage', $event)" />
    <v-select :model-value="text('platform')" :items="counted('platform', platforms)" label="Platform" clearable @update:model-value="set('platform', $event)" />
    <v-select :model-value="text('ownership')" :items="counted('ownership', ownerships)" label="Ownership" clearable @update:model-value="set('ownership', $event)" />
    <v-select :model-value="text('site')" :items="counted('site', sites)" label="Site" clearable @update:model-value="set('site', $event)" />
    <v-text-field :model-value="text('idle')" label="Idle for at least (days)" type="number" min="0" clearable @change="set('idle', ($event.target as HTMLInputElement).value)" @click:clear="set('idle', null)" />
    <v-select :model-value="text('sort') ?? 'id'" :items="sorts" label="Order" @update:model-value="set('sort', $event)" />
  </div>
  <div class="row-gap mb-2">
    <v-chip v-if="asked.query" closable @click:close="set('query', null)">search: {{ asked.query }}</v-chip>
    <v-chip v-if="asked.lot" closable @click:close="set('lot', null)">from lot {{ asked.lot }}</v-chip>
    <v-chip v-if="asked.person" closable @click:close="set('person', null)">of person {{ asked.person }}</v-chip>
    <v-chip v-if="asked.pool" closable @click:close="set('pool', null)">take a seat of {{ pool?.name ?? `pool ${asked.pool}` }}</v-chip>
  </div>
  <v-card v-if="chosen.length" class="pa-3 mb-2 row-gap" role="region" aria-label="With the chosen devices">
    <strong>{{ chosen.length }} chosen</strong>
    <v-select v-model="ownership" :items="[...ownerships]" label="Declare as" class="declare" />
    <v-btn color="primary" @click="declare">Preview the declaration</v-btn>
    <v-btn variant="text" @click="chosen = []">Choose none</v-btn>
  </v-card>
  <DataList
    v-bind="session.changes ? { selected: chosen, 'onUpdate:selected': (value: (string | number)[] | undefined) => (chosen = value ?? []) } : {}" label="Devices" :columns="columns"
    :items="items" :row-key="(device) => device.id" :loading="isFetching" :error="error" :more="hasNextPage" @more="fetchNextPage()"
  >
    <template #name="{ item }"><router-link :to="`/devices/${item.id}`" class="nowrap">{{ item.name ?? `device ${item.id}` }}</router-link></template>
    <template #stage="{ item }"><StageChip :stage="item.stage" :flag="item.flag" /></template>
    <template #platform="{ item }"><span class="nowrap">{{ item.platform ?? '–' }} {{ item.os_version }}</span></template>
    <template #model="{ item }">{{ [item.maker, item.model].filter(Boolean).join(' ') || '–' }}</template>
    <template #person="{ item }"><router-link v-if="item.person_id" :to="`/people?person=${item.person_id}`" class="nowrap">{{ item.person_name }}</router-link><span v-else class="muted">–</span></template>
    <template #site="{ item }">{{ item.site ?? '–' }}</template>
    <template #serial="{ item }"><span class="mono">{{ item.serial ?? '–' }}</span></template>
    <template #idle_days="{ item }">{{ ['awaited', 'retired'].includes(item.stage) ? '–' : number(item.idle_days) }}</template>
    <template #empty>No device fits. <router-link to="/devices">Show all devices</router-link>, or <router-link to="/lots">import a lot</router-link>.</template>
  </DataList>
</template>

<style scoped>
.filters { display: grid; grid-template-columns: repeat(auto-fill, minmax(168px, 1fr)); gap: 8px; }
.declare { max-width: 180px; }
</style>
