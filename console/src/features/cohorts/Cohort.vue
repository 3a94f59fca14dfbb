<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { at } from '../../api/base'
import { api, got, listed, type Schemas } from '../../api/client'
import DataList from '../../shared/tables/DataList.vue'
import FilterField from '../../shared/filters/FilterField.vue'
import { called, number, onDay, plural } from '../../shared/formats'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import ExportMenu from '../../shared/tables/ExportMenu.vue'
import Picker from '../../shared/fields/Picker.vue'
import StageChip from '../../shared/tables/StageChip.vue'
import { usePages } from '../../shared/tables/usePages'
import { useAction } from '../../shared/actions/useAction'
import { useDocuments } from '../../shared/actions/useDocuments'
import { usePreview } from '../../shared/actions/usePreview'
import { useSession } from '../../shared/actions/useSession'
import LintList from '../kits/LintList.vue'

const route = useRoute()
const router = useRouter()
const session = useSession()
const preview = usePreview()
const cohorts = useDocuments<Schemas['Cohort'], Schemas['CohortDetail']>('/api/v1/cohorts')
const path = computed(() => ({ key: String(route.params.id) }))
const { data: cohort, error } = useQuery({
  queryKey: computed(() => ['cohort', path.value]),
  queryFn: () => got(api.GET('/api/v1/cohorts/{key}', { params: { path: path.value } })),
  refetchInterval: 4_000,
})
const { data: uses } = useQuery({
  queryKey: computed(() => ['cohort-uses', path.value]),
  queryFn: () => listed(api.GET('/api/v1/cohorts/{key}/uses', { params: { path: path.value } })),
})
const { data: lints } = useQuery({
  queryKey: ['kit-lints'],
  queryFn: () => listed(api.GET('/api/v1/kit-lints')),
})
const oddHere = computed(() =>
  (lints.value ?? []).filter((one) => one.cohorts.includes(cohort.value?.name ?? '')),
)
const { data: days } = useQuery({
  queryKey: computed(() => ['cohort-history', path.value, cohort.value?.devices]),
  queryFn: () => listed(api.GET('/api/v1/cohorts/{key}/history', { params: { path: path.value } })),
})
const { data: others } = useQuery({
  queryKey: ['cohorts'],
  queryFn: () => listed(api.GET('/api/v1/cohorts')),
})
// The number is asked for again and again; when it moves, so does the list.
const members = usePages<Schemas['Device']>(
  () => ['cohort-members', path.value, cohort.value?.devices, cohort.value?.revision],
  (cursor) =>
    got(
      api.GET('/api/v1/devices', {
        params: { query: { cohort: path.value.key, cursor, limit: 50 } },
      }),
    ),
)
const columns = [
  { key: 'name', title: 'Name' },
  { key: 'stage', title: 'Stage' },
  { key: 'platform', title: 'Platform' },
  { key: 'model', title: 'Model' },
  { key: 'person', title: 'Person' },
  { key: 'site', title: 'Site' },
  { key: 'serial', title: 'Serial' },
]
const filter = ref('')
const { failure, run } = useAction()
const { failure: refused } = cohorts
const moved = ref<{ enter: number; leave: number } | null>(null)
const other = ref<number | null>(null)
const device = ref('')
const identifiers = ref('')
const asked = computed(() => (device.value ? Number(device.value) : null))
watch(
  () => cohort.value?.revision,
  () => (filter.value = cohort.value?.filter ?? ''),
  { immediate: true },
)
const { data: shared } = useQuery({
  queryKey: computed(() => ['overlap', path.value, other.value, cohort.value?.devices]),
  enabled: computed(() => other.value !== null),
  queryFn: () =>
    got(
      api.GET('/api/v1/cohorts/{key}/overlap/{other}', {
        params: { path: { ...path.value, other: String(other.value ?? '') } },
      }),
    ),
})
const { data: explained, error: unexplained } = useQuery({
  queryKey: computed(() => ['explain', path.value, asked.value, cohort.value?.revision]),
  enabled: computed(() => asked.value !== null),
  retry: false,
  queryFn: () =>
    got(
      api.GET('/api/v1/cohorts/{key}/explain', {
        params: { path: path.value, query: { device: asked.value ?? 0 } },
      }),
    ),
})

/** What the answer turns on, or all that was compared. */
const whole = ref(false)
const deciding = computed(() =>
  (explained.value?.clauses ?? []).filter((one) => one.decides || whole.value),
)
const forms = computed(() => {
  const path = (form: string) => at(`/api/v1/devices/file?form=${form}&cohort=${cohort.value?.id}`)
  return [
    { title: 'CSV', subtitle: 'all of its devices', href: path('csv') },
    { title: 'Workbook (XLSX)', subtitle: 'every cell as text', href: path('xlsx') },
  ]
})

const most = computed(() => Math.max(1, ...(days.value ?? []).map((one) => one.devices)))

const changed = computed(() => filter.value.trim() !== (cohort.value?.filter ?? ''))

/** Where what speaks of it is found; an item has a page of its own. */
const USED_AT: Record<string, string> = {
  'licence pool': '/licences',
  'sweep rule': '/sweeps',
  kit: '/kits',
  'setup sheet': '/kits?tab=sheets',
  checklist: '/kits?tab=checklists',
}
const wanted = (text: string) => ({
  name: cohort.value?.name ?? '',
  filter: text,
  note: cohort.value?.note,
})

async function settled(text: string) {
  moved.value = null
  if (!text || text === cohort.value?.filter) return
  await run(async () => {
    const shown = await got(
      api.POST('/api/v1/cohorts/{key}/preview', {
        params: { path: path.value },
        body: wanted(text),
      }),
    )
    const count = (key: string) => shown.counts.find((one) => one.key === key)?.count ?? 0
    moved.value = { enter: count('enter'), leave: count('leave') }
  })
}

function save() {
  if (!cohort.value) return
  void cohorts.edit(cohort.value, wanted(filter.value), () => (moved.value = null))
}

function change(putIn: boolean) {
  const body = {
    selection: { identifiers: identifiers.value.split(/[\s,;]+/).filter(Boolean) },
    put_in: putIn,
  }
  void preview.open({
    look: () =>
      got(
        api.POST('/api/v1/cohorts/{key}/devices/preview', {
          params: { path: path.value },
          body,
        }),
      ),
    act: (digest, reason) =>
      got(
        api.POST('/api/v1/cohorts/{key}/devices/apply', {
          params: { path: path.value },
          body: { ...body, digest, reason },
        }),
      ),
    done: () => (identifiers.value = ''),
  })
}

function remove() {
  if (cohort.value) void cohorts.remove(cohort.value, () => void router.push('/cohorts'))
}
</script>

<template>
  <ProblemAlert :error="error ?? failure ?? refused" />
  <template v-if="cohort">
    <div class="page-head">
      <h1>{{ cohort.name }}</h1>
      <span class="muted" aria-live="polite"
        ><strong>{{ plural(cohort.devices, 'device') }}</strong> now,
        {{
          cohort.kind === 'list'
            ? 'by list'
            : cohort.moving
              ? 'by filter, moves with time'
              : 'by filter'
        }}</span
      >
      <v-btn variant="text" :to="`/devices?cohort=${cohort.id}`">Open in Devices</v-btn>
      <ExportMenu :forms="forms" />
      <v-btn v-if="session.may('sort')" variant="text" color="error" @click="remove">Remove</v-btn>
    </div>
    <p v-if="cohort.note" class="muted mb-2">{{ cohort.note }}</p>
    <div class="columns">
      <div class="stack">
        <v-card v-if="cohort.kind === 'filter'" class="pa-4 stack">
          <FilterField v-model="filter" label="Who is in it" @settled="settled" />
          <div v-if="session.may('sort')" class="row-gap">
            <v-btn color="primary" :disabled="!changed || !moved" @click="save"
              >Preview the change</v-btn
            >
            <v-btn v-if="changed" variant="text" @click="filter = cohort.filter ?? ''"
              >Cancel</v-btn
            >
            <span v-if="moved && changed" aria-live="polite"
              ><span class="tone-good">{{ number(moved.enter) }} would enter</span>,
              <span class="tone-warn">{{ number(moved.leave) }} would leave</span></span
            >
          </div>
        </v-card>
        <v-card v-else-if="session.may('sort')" class="pa-4 stack">
          <v-textarea
            v-model="identifiers"
            label="Serials, IMEIs or other identifiers, one a line"
            rows="3"
            class="mono"
          />
          <div class="row-gap">
            <v-btn color="primary" :disabled="!identifiers.trim()" @click="change(true)"
              >Preview putting them in</v-btn
            >
            <v-btn variant="text" :disabled="!identifiers.trim()" @click="change(false)"
              >Preview taking them out</v-btn
            >
          </div>
        </v-card>
        <DataList
          label="Members"
          :columns="columns"
          :items="members.items.value"
          :row-key="(one) => one.id"
          :to="(one) => `/devices/${one.id}`"
          :loading="members.isFetching.value"
          :error="members.error.value"
          :more="members.hasNextPage.value"
          empty="Nobody is in it now."
          @more="members.fetchNextPage()"
        >
          <template #name="{ item }"
            ><router-link :to="`/devices/${item.id}`" class="nowrap">{{
              called(item)
            }}</router-link></template
          >
          <template #stage="{ item }"><StageChip :stage="item.stage" :flag="item.flag" /></template>
          <template #platform="{ item }"
            ><span class="nowrap">{{ item.platform ?? '–' }} {{ item.os_version }}</span></template
          >
          <template #model="{ item }">{{
            [item.maker, item.model].filter(Boolean).join(' ') || '–'
          }}</template>
          <template #person="{ item }"
            ><span class="nowrap">{{ item.person_name ?? '–' }}</span></template
          >
          <template #site="{ item }">{{ item.site ?? '–' }}</template>
          <template #serial="{ item }"
            ><span class="mono">{{ item.serial ?? '–' }}</span></template
          >
        </DataList>
      </div>
      <div class="stack">
        <v-card class="pa-4">
          <h2 class="mb-2">Why a device is in it, or not</h2>
          <Picker v-model="device" kind="device" label="Device: name, serial or IMEI" />
          <ProblemAlert :error="unexplained" class="mt-2" />
          <template v-if="explained && asked">
            <p class="mt-3">
              <strong :class="explained.inside ? 'tone-good' : 'tone-warn'"
                >It is {{ explained.inside ? 'in' : 'not in' }}, because of this:</strong
              >
            </p>
            <ul class="clauses">
              <li v-for="(clause, place) in deciding" :key="place">
                <span :class="clause.matched ? 'tone-good' : 'tone-bad'">{{
                  clause.matched ? 'yes' : 'no'
                }}</span>
                <span class="mono">{{ clause.text }}</span>
                <div class="muted">it has {{ clause.actual }}</div>
              </li>
            </ul>
            <v-btn
              v-if="explained.clauses.some((one) => !one.decides)"
              size="small"
              variant="text"
              @click="whole = !whole"
              >{{ whole ? 'Only what decides' : 'Every condition' }}</v-btn
            >
          </template>
        </v-card>
        <v-card class="pa-4">
          <h2 class="mb-2">Shared with another</h2>
          <v-select
            v-model="other"
            :items="
              (others ?? [])
                .filter((one) => one.id !== cohort?.id)
                .map((one) => ({ title: one.name, value: one.id }))
            "
            label="Another cohort"
            clearable
          />
          <dl v-if="shared && other" class="shared mt-2">
            <dt>only here</dt>
            <dd>{{ number(shared.only_one) }}</dd>
            <dt>in both</dt>
            <dd>
              <strong>{{ number(shared.both) }}</strong>
            </dd>
            <dt>only there</dt>
            <dd>{{ number(shared.only_other) }}</dd>
          </dl>
        </v-card>
        <v-card class="pa-4">
          <h2 class="mb-2">Used by</h2>
          <LintList :lints="oddHere" class="mb-3" />
          <p v-if="!uses?.length" class="muted">Nothing speaks of it, so it can be removed.</p>
          <div v-for="use in uses ?? []" :key="use.kind + use.id">
            <router-link :to="USED_AT[use.kind] ?? `/items/${use.id}`"
              >{{ use.kind }} “{{ use.name }}”</router-link
            >
          </div>
        </v-card>
        <v-card v-if="days?.length" class="pa-4">
          <h2 class="mb-2">By day</h2>
          <div v-for="one in days.slice(-10)" :key="one.day" class="day">
            <span class="nowrap muted">{{ onDay(one.day) }}</span><span
              class="bar"
              :style="{ width: `${(one.devices / most) * 100}%` }"
            /><span class="number">{{ number(one.devices) }}</span>
          </div>
        </v-card>
      </div>
    </div>
  </template>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 280px;
  gap: 12px;
  align-items: start;
}
@media (max-width: 960px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
.clauses {
  list-style: none;
  padding: 0;
}
.clauses li {
  padding: 4px 0;
  overflow-wrap: anywhere;
}
.shared {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 2px 16px;
}
.shared dd {
  margin: 0;
  text-align: right;
}
.day {
  display: grid;
  grid-template-columns: 92px 1fr max-content;
  gap: 8px;
  align-items: center;
}
.bar {
  height: 10px;
  border-radius: 2px;
  background: rgb(var(--v-theme-primary));
  min-width: 1px;
}
</style>
