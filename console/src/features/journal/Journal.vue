<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { at } from '../../api/base'
import { api, got, type Schemas } from '../../api/client'
import DataList from '../../shared/tables/DataList.vue'
import ExportMenu from '../../shared/tables/ExportMenu.vue'
import { atTime } from '../../shared/formats'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { useOrder } from '../../shared/tables/useOrder'
import { usePages } from '../../shared/tables/usePages'
import { useTrail } from '../../shared/actions/useTrail'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import Picker from '../../shared/fields/Picker.vue'
import ChangeList from '../../shared/tables/ChangeList.vue'
import { useSession } from '../../shared/actions/useSession'

const route = useRoute()
const router = useRouter()
const session = useSession()
const { takeBack: revert } = useTrail()
const { final } = useVocabulary()
const kinds = [
  { title: 'Accounts', value: 'account' },
  { title: 'Arrivals', value: 'arrival' },
  { title: 'Checklists', value: 'checklist' },
  { title: 'Cohorts', value: 'cohort' },
  { title: 'Devices', value: 'device' },
  { title: 'Exports', value: 'export' },
  { title: 'Files', value: 'file' },
  { title: 'Gate', value: 'gate' },
  { title: 'Groups', value: 'group' },
  { title: 'Holds', value: 'hold' },
  { title: 'Items', value: 'item' },
  { title: 'Kits', value: 'kit' },
  { title: 'Levels', value: 'level' },
  { title: 'Licence grants', value: 'grant' },
  { title: 'Licence pools', value: 'pool' },
  { title: 'Lots', value: 'lot' },
  { title: 'Mails', value: 'mail' },
  { title: 'Names', value: 'naming' },
  { title: 'Orders', value: 'order' },
  { title: 'Passes', value: 'pass' },
  { title: 'People', value: 'people,person,user' },
  { title: 'Rules of sweeps', value: 'rule' },
  { title: 'Settings of your own', value: 'setting' },
  { title: 'Setup sheets', value: 'sheet' },
  { title: 'Sources', value: 'source' },
  { title: 'Sweeps', value: 'sweep' },
  { title: 'Terms', value: 'terms' },
  { title: 'Tokens', value: 'token' },
]
const text = (name: string) => (route.query[name] ? String(route.query[name]) : undefined)
const asked = computed(() => ({
  operation: text('operation'),
  actor: text('actor'),
  person: text('person'),
  device: text('device') ? Number(text('device')) : undefined,
  since: text('since'),
  until: text('until'),
}))
const set = (name: string, value: unknown) =>
  router.push({
    query: { ...route.query, entry: undefined, [name]: value ? String(value) : undefined },
  })
const { data: device } = useQuery({
  queryKey: computed(() => ['device', asked.value.device]),
  enabled: computed(() => asked.value.device !== undefined),
  queryFn: () =>
    got(
      api.GET('/api/v1/devices/{device_id}', {
        params: { path: { device_id: asked.value.device ?? 0 } },
      }),
    ),
})
/** The same entries as a file. */
function exported(form: string) {
  const query = new URLSearchParams({ form })
  for (const [name, value] of Object.entries(asked.value))
    if (value !== undefined) query.set(name, String(value))
  return at(`/api/v1/journal/file?${query}`)
}
const chosen = computed(() => (route.query.entry ? Number(route.query.entry) : null))
const order = useOrder({ key: 'id', descending: true })
const { items, error, isFetching, hasNextPage, fetchNextPage } = usePages<Schemas['Entry']>(
  () => ['journal', asked.value, order.value],
  (cursor) => {
    const query = { ...asked.value, descending: order.value?.descending ?? true, cursor }
    return got(api.GET('/api/v1/journal', { params: { query } }))
  },
)
const { data: entry, error: entryError } = useQuery({
  queryKey: computed(() => ['entry', chosen.value]),
  enabled: computed(() => chosen.value !== null),
  queryFn: () =>
    got(
      api.GET('/api/v1/journal/{entry_id}', { params: { path: { entry_id: chosen.value ?? 0 } } }),
    ),
})
const columns = [
  { key: 'id', title: 'Entry', number: true, sort: 'id' },
  { key: 'at', title: 'At', sort: 'id' },
  { key: 'actor', title: 'By' },
  { key: 'summary', title: 'What' },
  { key: 'reason', title: 'Why' },
  { key: 'state', title: '' },
]
const json = (value: unknown) => JSON.stringify(value, null, 2)

const forms = computed(() => [
  { title: 'CSV', subtitle: 'these entries, in words', href: exported('csv') },
  { title: 'Workbook (XLSX)', subtitle: 'up to 100,000', href: exported('xlsx') },
  { title: 'JSON Lines', subtitle: 'with all that is stored', href: exported('jsonl') },
])
</script>

<template>
  <div class="page-head">
    <h1>Journal</h1>
    <ExportMenu :forms="forms" />
  </div>
  <div class="filters mb-3">
    <v-autocomplete
      :model-value="asked.operation"
      :items="kinds"
      label="About"
      clearable
      @update:model-value="set('operation', $event)"
    />
    <Picker
      kind="person"
      :model-value="asked.person ?? ''"
      label="Person"
      left
      @update:model-value="set('person', $event)"
    />
    <v-text-field
      :model-value="asked.actor"
      label="Done by"
      placeholder="account, or device"
      clearable
      @change="set('actor', ($event.target as HTMLInputElement).value)"
      @click:clear="set('actor', null)"
    />
    <v-text-field
      :model-value="asked.since"
      label="From"
      type="date"
      @change="set('since', ($event.target as HTMLInputElement).value)"
    />
    <v-text-field
      :model-value="asked.until"
      label="Until"
      type="date"
      @change="set('until', ($event.target as HTMLInputElement).value)"
    />
  </div>
  <div v-if="asked.device" class="mb-2">
    <v-chip closable @click:close="set('device', null)"
      >concerning {{ device?.name ?? 'a device' }}</v-chip
    >
  </div>
  <ProblemAlert :error="entryError" />
  <v-card v-if="entry && chosen" class="pa-4 mb-3">
    <div class="row-gap">
      <h2>{{ entry.id }} · {{ entry.summary }}</h2>
      <v-chip v-if="entry.reverted_by">reverted by {{ entry.reverted_by }}</v-chip>
      <v-spacer />
      <v-btn
        v-if="
          session.may('revert') &&
          !entry.reverted_by &&
          !entry.reverts &&
          final(entry.operation) === null
        "
        size="small"
        variant="outlined"
        color="primary"
        @click="revert(entry.id)"
        >Preview taking it back</v-btn
      >
      <v-btn
        size="small"
        variant="text"
        @click="router.push({ query: { ...route.query, entry: undefined } })"
        >Close</v-btn
      >
    </div>
    <p class="muted">
      {{ atTime(entry.at) }} by {{ entry.actor
      }}<template v-if="entry.reason">: “{{ entry.reason }}”</template> · {{ entry.operation }} ·
      request {{ entry.request_id ?? '–' }}
    </p>
    <ChangeList :changes="entry.changes" />
    <template v-if="entry.effects.length">
      <h3 class="muted mt-2">
        On devices{{ entry.effects.length === 100 ? ' (the first hundred)' : '' }}
      </h3>
      <div v-for="effect in entry.effects.slice(0, 12)" :key="effect.device_id" class="effect">
        <router-link :to="`/devices/${effect.device_id}`">{{ effect.label }}</router-link>
        <span v-if="effect.after === null"> was removed</span>
        <ChangeList v-else :changes="effect.changes" class="ml-4" />
      </div>
    </template>
    <details v-if="entry.before !== null || entry.after !== null" class="mt-3">
      <summary class="muted">As it is stored</summary>
      <div class="halves">
        <div v-if="entry.before !== null">
          <h3 class="muted">Before</h3>
          <pre class="mono" tabindex="0">{{ json(entry.before) }}</pre>
        </div>
        <div v-if="entry.after !== null">
          <h3 class="muted">After</h3>
          <pre class="mono" tabindex="0">{{ json(entry.after) }}</pre>
        </div>
      </div>
    </details>
  </v-card>
  <DataList
    v-model:order="order"
    label="Journal"
    :columns="columns"
    :items="items"
    :row-key="(one) => one.id"
    :loading="isFetching"
    :error="error"
    :more="hasNextPage"
    @more="fetchNextPage()"
  >
    <template #id="{ item }"
      ><router-link :to="{ query: { ...route.query, entry: item.id } }">{{
        item.id
      }}</router-link></template
    >
    <template #at="{ item }"
      ><span class="nowrap">{{ atTime(item.at) }}</span></template
    >
    <template #reason="{ item }">{{ item.reason ?? '' }}</template>
    <template #state="{ item }"
      ><v-chip v-if="item.reverted_by">reverted</v-chip
      ><v-btn
        v-else-if="session.may('revert') && !item.reverts && final(item.operation) === null"
        size="small"
        variant="text"
        color="primary"
        :aria-label="`Take back entry ${item.id}`"
        @click="revert(item.id)"
        >Take back</v-btn
      ></template
    >
    <template #empty>No entry fits.</template>
  </DataList>
</template>

<style scoped>
.filters {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(190px, 1fr));
  gap: 8px;
}
.halves {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(280px, 1fr));
  gap: 12px;
}
pre {
  white-space: pre-wrap;
  max-height: 220px;
  overflow: auto;
}
.effect {
  overflow-wrap: anywhere;
}
h3 {
  font-size: 0.85rem;
  font-weight: 560;
}
</style>
