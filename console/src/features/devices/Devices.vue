<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, got, type Schemas } from '../../api/client'
import { queries } from '../../api/queries'
import DataList from '../../shared/tables/DataList.vue'
import ExportMenu from '../../shared/tables/ExportMenu.vue'
import FilterField from '../../shared/filters/FilterField.vue'
import { both, useAttributes } from '../../shared/filters/filters'
import { number, onDay } from '../../shared/formats'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import StageChip from '../../shared/tables/StageChip.vue'
import { usePages } from '../../shared/tables/usePages'
import { usePreview } from '../../shared/actions/usePreview'
import { useAction } from '../../shared/actions/useAction'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import { useSession } from '../../shared/actions/useSession'
import { useHold } from '../../shared/actions/useHold'
import RefusedList from '../arrivals/RefusedList.vue'
import { useTurning } from './useTurning'

type Ownership = Schemas['Ownership']
const route = useRoute()
const router = useRouter()
const session = useSession()
const preview = usePreview()
const chosen = ref<(string | number)[]>([])
const ownership = ref<Ownership>('corporate')
const sorts = [
  { title: 'Number', value: 'id' },
  { title: 'Name', value: 'name' },
  { title: 'Site', value: 'site' },
  { title: 'Model', value: 'model' },
  { title: 'Longest unseen', value: 'seen' },
]
const every = [
  { key: 'name', title: 'Name' },
  { key: 'stage', title: 'Stage' },
  { key: 'platform', title: 'Platform' },
  { key: 'model', title: 'Model' },
  { key: 'ownership', title: 'Ownership' },
  { key: 'person', title: 'Person' },
  { key: 'site', title: 'Site' },
  { key: 'serial', title: 'Serial' },
  { key: 'imei', title: 'IMEI' },
  { key: 'asset_tag', title: 'Asset tag' },
  { key: 'last_seen_at', title: 'Last seen' },
  { key: 'idle_days', title: 'Days idle', number: true },
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
const text = (name: string) => (route.query[name] ? String(route.query[name]) : undefined)
const whole = (name: string) => (route.query[name] ? Number(route.query[name]) : undefined)
/** What was chosen in the menus and what was written, in the filter language. */
const said = computed(() => {
  const chosenIn = ['stage', 'platform', 'ownership', 'site'].flatMap((name) =>
    text(name) ? [`${name} eq ${JSON.stringify(text(name))}`] : [],
  )
  if (whole('lot')) chosenIn.push(`lot eq ${whole('lot')}`)
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
  filter: said.value,
  sort: (text('sort') ?? 'id') as 'id',
  column: furtherShown.value.length ? furtherShown.value : undefined,
}))
const { data: facets } = useQuery({
  queryKey: ['facets'],
  queryFn: () => got(api.GET('/api/v1/devices/facets')),
})
const { data: pools } = useQuery({
  queryKey: ['pools'],
  queryFn: () => got(api.GET('/api/v1/pools')),
  enabled: computed(() => asked.value.pool !== undefined),
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
  queryFn: () => got(api.GET('/api/v1/cohorts')),
})
const cohort = computed(() => cohorts.value?.find((one) => String(one.id) === asked.value.cohort))
const lists = computed(() =>
  (cohorts.value ?? [])
    .filter((one) => one.kind === 'list')
    .map((one) => ({ title: one.name, value: one.id })),
)
const { data: views } = useQuery({
  queryKey: ['views'],
  queryFn: () => got(api.GET('/api/v1/views')),
})
const view = reactive({ open: false, name: '', shared: false })
const { failure, run } = useAction()
const { choices, words: wordsOf } = useVocabulary()

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
  await queries.invalidateQueries({ queryKey: ['views'] })
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
  chosen.value = []
  void router.push({ query: { ...route.query, [name]: value ? String(value) : undefined } })
}

/** The devices that a bulk action means: those that were ticked, or all that fit. */
const everyOne = ref(false)
const meant = computed<Schemas['Selection']>(() => {
  if (!everyOne.value) return { ids: chosen.value.map(Number) }
  const { query, person, cohort: inCohort, filter: fitting } = asked.value
  return {
    query: query ?? null,
    person_id: person ?? null,
    cohort_id: inCohort ? Number(inCohort) : null,
    filter: fitting ?? null,
  }
})
const target = ref<number | null>(null)

function finished() {
  chosen.value = []
  everyOne.value = false
}

function declare() {
  const body = { selection: meant.value, ownership: ownership.value }
  void preview.open({
    look: () => got(api.POST('/api/v1/devices/declare/preview', { body })),
    act: (digest, reason) =>
      got(api.POST('/api/v1/devices/declare/apply', { body: { ...body, digest, reason } })),
    done: finished,
  })
}

const { retire, bringBack, erase, report } = useTurning()
const reports = [
  { title: 'missing', flag: 'missing' },
  { title: 'stolen', flag: 'stolen' },
  { title: 'found again', flag: null },
] as const
const hold = useHold()

function rename() {
  const body = { selection: meant.value }
  void preview.open({
    look: () => got(api.POST('/api/v1/naming/preview', { body })),
    act: (digest, reason) =>
      got(api.POST('/api/v1/naming/apply', { body: { ...body, digest, reason } })),
    done: finished,
  })
}

const { data: sheets } = useQuery({
  queryKey: ['/api/v1/setup-sheets'],
  queryFn: () => got(api.GET('/api/v1/setup-sheets')),
})
const isHanded = (sheet: Schemas['SheetDetail']) =>
  sheet.given?.some((one) => one.cohort === `Chosen for ${sheet.name}`)

function hand(sheet: Schemas['SheetDetail'], clear: boolean) {
  const body = { sheet: sheet.name, selection: meant.value, clear }
  void preview.open({
    look: () => got(api.POST('/api/v1/sheet-handings/preview', { body })),
    act: (digest, reason) =>
      got(api.POST('/api/v1/sheet-handings/apply', { body: { ...body, digest, reason } })),
    done: finished,
  })
}

function putIn() {
  const path = { key: String(target.value ?? '') }
  const body = { selection: meant.value, put_in: true }
  void preview.open({
    look: () => got(api.POST('/api/v1/cohorts/{key}/devices/preview', { params: { path }, body })),
    act: (digest, reason) =>
      got(
        api.POST('/api/v1/cohorts/{key}/devices/apply', {
          params: { path },
          body: { ...body, digest, reason },
        }),
      ),
    done: finished,
  })
}

function exported(form: string) {
  const query = new URLSearchParams({ form })
  for (const [name, value] of Object.entries(asked.value))
    if (name !== 'sort' && name !== 'column')
      for (const one of Array.isArray(value) ? value : value === undefined ? [] : [value])
        query.append(name, String(one))
  for (const column of columns.value)
    for (const name of attributesOf[column.key] ?? [column.key]) query.append('column', name)
  return `/api/v1/devices/file?${query}`
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
    <v-select
      :model-value="text('sort') ?? 'id'"
      :items="sorts"
      label="Order"
      @update:model-value="set('sort', $event)"
    />
  </div>
  <div class="row-gap mb-2">
    <v-chip v-if="asked.query" closable @click:close="set('query', null)"
      >search: {{ asked.query }}</v-chip
    >
    <v-chip v-if="text('lot')" closable @click:close="set('lot', null)"
      >from lot {{ text('lot') }}</v-chip
    >
    <v-chip v-if="asked.person" closable @click:close="set('person', null)"
      >of person {{ asked.person }}</v-chip
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
    class="pa-3 mb-2 row-gap"
    role="region"
    aria-label="With the chosen devices"
  >
    <strong>{{
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
    <v-select
      v-model="ownership"
      :items="choices('ownership')"
      label="Declare as"
      class="declare"
    />
    <v-btn color="primary" @click="declare">Preview declaring</v-btn>
    <template v-if="lists.length"
      ><v-select v-model="target" :items="lists" label="List" class="list" /><v-btn
        variant="outlined"
        color="primary"
        :disabled="!target"
        @click="putIn"
        >Preview putting in</v-btn
      ></template
    >
    <v-btn variant="text" @click="rename">Preview names</v-btn>
    <v-menu v-if="sheets?.length && session.may('prepare')">
      <template #activator="{ props }"
        ><v-btn variant="text" v-bind="props">Setup sheet</v-btn></template
      >
      <v-list
        ><template v-for="one in sheets" :key="one.id"
          ><v-list-item :title="`Give ${one.name}`" @click="hand(one, false)" /><v-list-item
            v-if="isHanded(one)"
            :title="`Clear ${one.name}`"
            @click="hand(one, true)" /></template
      ></v-list>
    </v-menu>
    <v-btn variant="text" @click="hold.open({ selection: meant }, 'these devices', finished)"
      >Hold</v-btn
    >
    <v-menu>
      <template #activator="{ props }"
        ><v-btn variant="text" v-bind="props">Report</v-btn></template
      >
      <v-list
        ><v-list-item
          v-for="one in reports"
          :key="one.title"
          :title="one.title"
          @click="report(meant, one.flag, finished)"
      /></v-list>
    </v-menu>
    <v-btn variant="text" color="error" @click="retire(meant, finished)">Preview retiring</v-btn>
    <v-btn variant="text" @click="bringBack(meant, finished)">Preview bringing back</v-btn>
    <v-btn v-if="session.may('sweep')" variant="text" color="error" @click="erase(meant, finished)"
      >Preview erasing</v-btn
    >
    <v-btn variant="text" @click="finished">None</v-btn>
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
    :loading="isFetching"
    :error="error"
    :more="hasNextPage"
    @more="fetchNextPage()"
  >
    <template #name="{ item }"
      ><router-link :to="`/devices/${item.id}`" class="nowrap">{{
        item.name ?? `device ${item.id}`
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
.declare {
  max-width: 150px;
}
.list {
  min-width: 130px;
  max-width: 160px;
}
</style>
