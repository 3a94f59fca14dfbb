<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { at } from '../../api/base'
import { api, got, listed, type Schemas } from '../../api/client'
import { readAgain } from '../../api/queries'
import DataList from '../../shared/tables/DataList.vue'
import ExportMenu from '../../shared/tables/ExportMenu.vue'
import FilterField from '../../shared/filters/FilterField.vue'
import { both, useAttributes } from '../../shared/filters/filters'
import { called, number, onDay } from '../../shared/formats'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import StageChip from '../../shared/tables/StageChip.vue'
import { useOrder } from '../../shared/tables/useOrder'
import { usePages } from '../../shared/tables/usePages'
import { useDocuments } from '../../shared/actions/useDocuments'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import { useAction } from '../../shared/actions/useAction'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import { useSession } from '../../shared/actions/useSession'
import DeviceActs from '../../shared/dialogs/DeviceActs.vue'
import ListDialog from './ListDialog.vue'
import RefusedList from '../arrivals/RefusedList.vue'
import { vFirst } from '../../shared/fields/first'

const route = useRoute()
const router = useRouter()
const session = useSession()
const chosen = ref<(string | number)[]>([])
const every = [
  { key: 'name', title: 'Name', sort: 'name' },
  { key: 'stage', title: 'Stage', sort: 'stage' },
  { key: 'platform', title: 'Platform' },
  { key: 'model', title: 'Model', sort: 'model' },
  { key: 'ownership', title: 'Ownership' },
  { key: 'person', title: 'Person' },
  { key: 'site', title: 'Site', sort: 'site' },
  { key: 'serial', title: 'Serial' },
  { key: 'imei', title: 'IMEI' },
  { key: 'asset_tag', title: 'Asset tag' },
  { key: 'last_seen_at', title: 'Last seen', sort: 'seen' },
  { key: 'idle_days', title: 'Days idle', number: true, sort: 'seen' },
]
const usual = [
  'name',
  'stage',
  'platform',
  'model',
  'ownership',
  'person',
  'site',
  'serial',
  'idle_days',
]
/** Column → the attributes that it shows. */
const attributesOf: Record<string, string[]> = {
  platform: ['platform', 'osVersion'],
  model: ['maker', 'model'],
  person: ['person.name'],
  asset_tag: ['assetTag'],
  last_seen_at: ['lastSeenAt'],
  idle_days: ['idleDays'],
}
const SPOKEN_OF = new Set(['id', ...every.flatMap(({ key }) => attributesOf[key] ?? [key])])
/** Several columns may show one order. */
const order = useOrder()
const text = (name: string) => (route.query[name] ? String(route.query[name]) : undefined)
const whole = (name: string) => (route.query[name] ? Number(route.query[name]) : undefined)
/** What was chosen in the menus and what was written, in the filter language. */
const said = computed(() => {
  const chosenIn = ['stage', 'platform', 'ownership', 'site'].flatMap((name) =>
    text(name) ? [`${name} eq ${JSON.stringify(text(name))}`] : [],
  )
  if (whole('idle')) chosenIn.push(`idleDays ge ${whole('idle')}`)
  return both(text('filter'), ...chosenIn)
})
const shownColumns = computed(() => text('columns')?.split(',') ?? usual)
const { data: attributes } = useAttributes()
/** Whatever else a filter can speak of, as columns. */
const further = computed(() =>
  (attributes.value ?? [])
    .filter(({ name }) => !SPOKEN_OF.has(name))
    .map(({ name, meaning }) => ({ key: name, title: name, meaning })),
)
const furtherShown = computed(() =>
  further.value.map((one) => one.key).filter((key) => shownColumns.value.includes(key)),
)
const asked = computed(() => ({
  query: text('query'),
  person: whole('person'),
  pool: text('pool'),
  cohort: text('cohort'),
  lot: whole('lot'),
  filter: said.value,
  sort: (order.value?.key ?? 'id') as 'id',
  descending: order.value?.descending || undefined,
  column: furtherShown.value.length ? furtherShown.value : undefined,
}))
const { data: facets } = useQuery({
  queryKey: ['facets'],
  queryFn: () => got(api.GET('/api/v1/devices/facets')),
})
const { data: pools } = useQuery({
  queryKey: ['pools'],
  queryFn: () => listed(api.GET('/api/v1/pools')),
  enabled: computed(() => asked.value.pool !== undefined),
})
const { data: whose } = useQuery({
  queryKey: computed(() => ['person', asked.value.person]),
  enabled: computed(() => asked.value.person !== undefined),
  queryFn: () =>
    got(
      api.GET('/api/v1/people/{person}', {
        params: { path: { person: String(asked.value.person ?? 0) } },
      }),
    ),
})
const pool = computed(() => pools.value?.find((one) => String(one.id) === asked.value.pool))
const { items, total, error, isFetching, hasNextPage, fetchNextPage } = usePages<Schemas['Device']>(
  () => ['devices', asked.value],
  (cursor) =>
    got(api.GET('/api/v1/devices', { params: { query: { ...asked.value, cursor, total: true } } })),
)
/** Devices with what was asked for besides. */
const rows = computed(() => items.value.map((device) => ({ ...device.columns, ...device })))
const sites = computed(() =>
  Object.entries(facets.value?.site ?? {})
    .sort()
    .map(([value, count]) => ({ title: `${value} (${number(count)})`, value })),
)
const counted = (facet: string) =>
  wordsOf(facet).map(({ value, label }) => ({
    title: `${label} (${number(facets.value?.[facet]?.[value] ?? 0)})`,
    value,
  }))
const offered = computed(() => [...every, ...further.value])
const columns = computed(() => offered.value.filter((one) => shownColumns.value.includes(one.key)))
const filter = ref(text('filter') ?? '')
watch(
  () => text('filter'),
  (now) => (filter.value = now ?? ''),
)
const { data: cohorts } = useQuery({
  queryKey: ['cohorts'],
  queryFn: () => listed(api.GET('/api/v1/cohorts')),
})
const cohort = computed(() => cohorts.value?.find((one) => String(one.id) === asked.value.cohort))
const { data: views } = useQuery({
  queryKey: ['views'],
  queryFn: () => listed(api.GET('/api/v1/views')),
})
const view = reactive({ open: false, name: '', shared: false })
const { failure, run } = useAction()
const { words: wordsOf } = useVocabulary()

async function saveView() {
  const settings = {
    filter: said.value ?? null,
    columns: shownColumns.value,
    sort: text('sort') ?? 'id',
    descending: false,
  }
  const body = { name: view.name, shared: view.shared, settings }
  if (await run(() => got(api.POST('/api/v1/views', { body })))) view.open = false
}

async function forget(id: number) {
  await got(api.DELETE('/api/v1/views/{view_id}', { params: { path: { view_id: id } } }))
  await readAgain(['views'])
}

function show(one: Schemas['View']) {
  const { filter: wanted, columns: chosenColumns, sort } = one.settings
  void router.push({
    query: {
      filter: wanted || undefined,
      columns: chosenColumns?.join(',') || undefined,
      sort: sort === 'id' ? undefined : sort,
    },
  })
}

function set(name: string, value: unknown) {
  finished()
  void router.push({ query: { ...route.query, [name]: value ? String(value) : undefined } })
}

/** The devices that a bulk action means: those that were ticked, or all that fit. */
const everyOne = ref(false)
const meant = computed<Schemas['Selection']>(() => {
  if (!everyOne.value) return { ids: chosen.value.map(Number) }
  const { query, person, cohort: inCohort, lot, filter: fitting } = asked.value
  return {
    query: query ?? null,
    person_id: person ?? null,
    cohort_id: inCohort ? Number(inCohort) : null,
    lot_id: lot ?? null,
    filter: fitting ?? null,
  }
})
function finished() {
  chosen.value = []
  everyOne.value = false
}

/** What is chosen, in a sentence. */
const meantWords = computed(() => {
  const count = everyOne.value ? (total.value ?? 0) : chosen.value.length
  return count === 1 ? 'this device' : `these ${number(count)} devices`
})

const listing = ref(false)
function fromList(ids: number[]) {
  everyOne.value = false
  chosen.value = ids
}

const keeping = reactive({ open: false, name: '' })
const cohortsBook = useDocuments<Schemas['Cohort'], Schemas['CohortDetail']>('/api/v1/cohorts')
function keepAsCohort() {
  const document = { name: keeping.name.trim(), filter: said.value ?? '', note: null }
  void cohortsBook.add(document, (made) => {
    keeping.open = false
    void router.push(`/cohorts/${made.id}`)
  })
}

function exported(form: string) {
  const query = new URLSearchParams({ form })
  for (const [name, value] of Object.entries(asked.value))
    if (!['sort', 'descending', 'column'].includes(name))
      for (const one of Array.isArray(value) ? value : value === undefined ? [] : [value])
        query.append(name, String(one))
  for (const column of columns.value)
    for (const name of attributesOf[column.key] ?? [column.key]) query.append('column', name)
  return at(`/api/v1/devices/file?${query}`)
}
const forms = computed(() => [
  { title: 'CSV', subtitle: 'all that fit, these columns', href: exported('csv') },
  { title: 'Workbook (XLSX)', subtitle: 'every cell as text', href: exported('xlsx') },
])
</script>

<template>
  <div class="page-head">
    <h1>Devices</h1>
    <span v-if="total !== null" class="muted" aria-live="polite"
      >{{ number(total) }} {{ total === 1 ? 'device fits' : 'devices fit' }}</span
    >
    <v-menu :close-on-content-click="false">
      <template #activator="{ props }"><v-btn v-bind="props" variant="text">Views</v-btn></template>
      <v-card class="pa-3 stack" min-width="300">
        <div v-for="one in views ?? []" :key="one.id" class="row-gap">
          <a href="#" @click.prevent="show(one)">{{ one.name }}</a><span class="muted">{{
            one.mine ? (one.shared ? 'shared' : '') : `by ${one.by}`
          }}</span>
          <v-spacer /><v-btn v-if="one.mine" size="x-small" variant="text" @click="forget(one.id)"
            >Forget</v-btn
          >
        </div>
        <p v-if="!views?.length" class="muted">
          No views yet. Filter, choose columns, then keep it under a name.
        </p>
        <ProblemAlert :error="failure" />
        <v-text-field
          v-model="view.name"
          label="Keep this list as"
          @keydown.enter="view.name && saveView()"
        />
        <v-checkbox v-model="view.shared" label="Show it to everybody" />
        <v-btn block variant="outlined" color="primary" :disabled="!view.name" @click="saveView"
          >Keep the view</v-btn
        >
      </v-card>
    </v-menu>
    <v-menu :close-on-content-click="false">
      <template #activator="{ props }"
        ><v-btn v-bind="props" variant="text">Columns</v-btn></template
      >
      <v-card class="pa-3 columns">
        <div v-for="one in offered" :key="one.key">
          <label :title="'meaning' in one ? one.meaning : undefined"
            ><input
              type="checkbox"
              :checked="shownColumns.includes(one.key)"
              @change="
                set(
                  'columns',
                  offered
                    .map((each) => each.key)
                    .filter((each) => (each === one.key) !== shownColumns.includes(each))
                    .join(','),
                )
              "
            />
            {{ one.title }}</label
          >
        </div>
      </v-card>
    </v-menu>
    <ExportMenu :forms="forms" />
    <v-btn v-if="session.may('manage-devices')" variant="text" @click="listing = true"
      >From a list</v-btn
    >
    <v-btn
      v-if="said && session.may('sort')"
      variant="text"
      @click="
        () => {
          keeping.name = ''
          cohortsBook.forget()
          keeping.open = true
        }
      "
      >Keep as a cohort</v-btn
    >
  </div>
  <FilterField
    v-model="filter"
    class="mb-3"
    @settled="
      (settledText) => settledText !== (text('filter') ?? '') && set('filter', settledText || null)
    "
  />
  <div class="filters mb-3">
    <v-select
      :model-value="text('stage')"
      :items="counted('stage')"
      label="Stage"
      clearable
      @update:model-value="set('stage', $event)"
    />
    <v-select
      :model-value="text('platform')"
      :items="counted('platform')"
      label="Platform"
      clearable
      @update:model-value="set('platform', $event)"
    />
    <v-select
      :model-value="text('ownership')"
      :items="counted('ownership')"
      label="Ownership"
      clearable
      @update:model-value="set('ownership', $event)"
    />
    <v-select
      :model-value="text('site')"
      :items="sites"
      label="Site"
      clearable
      @update:model-value="set('site', $event)"
    />
    <v-text-field
      :model-value="text('idle')"
      label="Idle for at least (days)"
      type="number"
      min="0"
      clearable
      @change="set('idle', ($event.target as HTMLInputElement).value)"
      @click:clear="set('idle', null)"
    />
  </div>
  <div class="row-gap mb-2">
    <v-chip v-if="asked.query" closable @click:close="set('query', null)"
      >search: {{ asked.query }}</v-chip
    >
    <v-chip v-if="text('lot')" closable @click:close="set('lot', null)"
      >added or changed by lot {{ text('lot') }}</v-chip
    >
    <v-chip v-if="asked.person" closable @click:close="set('person', null)"
      >of {{ whose?.name ?? `person no. ${asked.person}` }}</v-chip
    >
    <v-chip v-if="asked.cohort" closable @click:close="set('cohort', null)"
      >in cohort {{ cohort?.name ?? asked.cohort }}</v-chip
    >
    <v-chip v-if="asked.pool" closable @click:close="set('pool', null)"
      >take a seat of {{ pool?.name ?? `pool ${asked.pool}` }}</v-chip
    >
  </div>
  <v-card
    v-if="chosen.length || everyOne"
    class="pa-3 mb-2 chosen"
    role="region"
    aria-label="With the chosen devices"
  >
    <DeviceActs :selection="meant" :label="meantWords" :done="finished">
      <strong class="mr-1">{{
        everyOne ? `All ${number(total ?? 0)} that fit` : `${chosen.length} chosen`
      }}</strong>
      <v-btn
        v-if="!everyOne && total !== null && total > chosen.length && !asked.pool"
        size="small"
        variant="text"
        color="primary"
        @click="everyOne = true"
        >Choose all {{ number(total) }} that fit</v-btn
      >
      <template #after
        ><v-btn size="small" variant="text" @click="finished">Choose none</v-btn></template
      >
    </DeviceActs>
  </v-card>
  <RefusedList v-if="asked.query && total === 0" :identifier="asked.query" />
  <DataList
    v-bind="
      session.may('manage-devices')
        ? {
            selected: chosen,
            'onUpdate:selected': (value: (string | number)[] | undefined) => (chosen = value ?? []),
          }
        : {}
    "
    label="Devices"
    :columns="columns"
    :items="rows"
    :row-key="(device) => device.id"
    :row-name="called"
    :to="(device) => `/devices/${device.id}`"
    v-model:order="order"
    columns-elsewhere
    :loading="isFetching"
    :error="error"
    :more="hasNextPage"
    @more="fetchNextPage()"
  >
    <template #name="{ item }"
      ><router-link :to="`/devices/${item.id}`" class="nowrap">{{
        called(item)
      }}</router-link></template
    >
    <template #stage="{ item }"
      ><StageChip :stage="item.stage" :flag="item.flag" :retire-on="item.retire_on"
    /></template>
    <template #platform="{ item }"
      ><span class="nowrap">{{ item.platform ?? '–' }} {{ item.os_version }}</span></template
    >
    <template #model="{ item }">{{
      [item.maker, item.model].filter(Boolean).join(' ') || '–'
    }}</template>
    <template #person="{ item }"
      ><router-link v-if="item.person_id" :to="`/people?person=${item.person_id}`" class="nowrap">{{
        item.person_name
      }}</router-link
      ><span v-else class="muted">–</span></template
    >
    <template #site="{ item }">{{ item.site ?? '–' }}</template>
    <template #serial="{ item }"
      ><span class="mono">{{ item.serial ?? '–' }}</span></template
    >
    <template #imei="{ item }"
      ><span class="mono">{{ item.imei ?? '–' }}</span></template
    >
    <template #last_seen_at="{ item }"
      ><span class="nowrap">{{
        item.last_seen_at ? onDay(item.last_seen_at) : 'never'
      }}</span></template
    >
    <template #idle_days="{ item }">{{
      ['awaited', 'retired'].includes(item.stage) ? '–' : number(item.idle_days)
    }}</template>
    <template #empty
      >No device fits. <router-link to="/devices">Show all devices</router-link>, or
      <router-link to="/lots">import a lot</router-link>.</template
    >
  </DataList>
  <ListDialog v-model="listing" @found="fromList" />
  <EditDialog
    v-model="keeping.open"
    title="Keep these conditions as a cohort"
    label="Preview the cohort"
    :failure="cohortsBook.failure.value"
    :busy="cohortsBook.busy.value"
    :ready="keeping.name.trim() !== ''"
    @save="keepAsCohort"
  >
    <p class="mono">{{ said }}</p>
    <v-text-field v-model="keeping.name" label="Name of the cohort" v-first />
  </EditDialog>
</template>

<style scoped>
.columns {
  max-height: 60vh;
  overflow: auto;
}
.filters {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(168px, 1fr));
  gap: 8px;
}
.chosen {
  position: sticky;
  top: 60px;
  z-index: 4;
}
</style>
