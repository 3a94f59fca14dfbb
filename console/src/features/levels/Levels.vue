<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { at } from '../../api/base'
import { api, got, listed, type Schemas } from '../../api/client'
import { useAction } from '../../shared/actions/useAction'
import { useJob } from '../../shared/actions/useJob'
import { usePreview } from '../../shared/actions/usePreview'
import { useSession } from '../../shared/actions/useSession'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import JobBar from '../../shared/dialogs/JobBar.vue'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { age, atTime, called, number, onDay, plural } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import { usePages } from '../../shared/tables/usePages'
import PatternPicture from './PatternPicture.vue'
import TrendPicture from './TrendPicture.vue'
import { mendsOf, sure } from './levels'

type Gap = Schemas['Discrepancy']
const route = useRoute()
const router = useRouter()
const session = useSession()
const { choices, label, jobRows } = useVocabulary()
const preview = usePreview()
const action = useAction()
const job = useJob()
const { data: levels, error } = useQuery({
  queryKey: ['levels'],
  queryFn: () => got(api.GET('/api/v1/levels')),
})
const { data: today } = useQuery({
  queryKey: ['today'],
  queryFn: () => got(api.GET('/api/v1/today')),
})
const { data: trend } = useQuery({
  queryKey: ['level-trend'],
  queryFn: () => listed(api.GET('/api/v1/levels/trend')),
})

/** What is asked for stands in the address, so that it can be handed on. */
const asked = computed(() => {
  const { kind, source, state, near } = route.query
  return {
    kind: kind ? (String(kind) as Schemas['Gap']) : undefined,
    source: source ? Number(source) : undefined,
    state: state ? (String(state) as Schemas['GapState']) : undefined,
    near: near === 'true' || undefined,
  }
})
const mask = computed(() => (route.query.pattern ? Number(route.query.pattern) : null))
function ask(change: Record<string, string | undefined>) {
  void router.replace({ query: { ...route.query, ...change } })
}

const gaps = usePages<Gap>(
  () => ['discrepancies', asked.value],
  (cursor) =>
    got(api.GET('/api/v1/discrepancies', { params: { query: { ...asked.value, cursor } } })),
)
const present = useQuery({
  queryKey: computed(() => ['pattern', mask.value]),
  enabled: computed(() => mask.value !== null),
  queryFn: () =>
    got(
      api.GET('/api/v1/levels/patterns/{mask}', {
        params: { path: { mask: mask.value ?? 0 }, query: { limit: 200 } },
      }),
    ),
})
const columns = [
  { key: 'label', title: 'Device' },
  { key: 'source', title: 'With' },
  { key: 'title', title: 'What' },
  { key: 'here', title: 'Here' },
  { key: 'there', title: 'There' },
  { key: 'state', title: 'State' },
  { key: 'first_at', title: 'Since' },
]
const presentColumns = [
  { key: 'device', title: 'Device' },
  { key: 'serial', title: 'Serial number' },
  { key: 'model', title: 'Model' },
  { key: 'stage', title: 'Stage' },
  { key: 'site', title: 'Site' },
]
const selected = ref<number[]>([])
watch(asked, () => (selected.value = []))
const chosen = computed(() => gaps.items.value.filter((gap) => selected.value.includes(gap.id)))
const mends = computed(() => mendsOf(chosen.value))
const sources = computed(() => {
  const found = new Map((levels.value?.gaps ?? []).map((gap) => [gap.source_id, gap.source]))
  return [...found].map(([value, title]) => ({ value, title }))
})
const open = computed(() =>
  (levels.value?.gaps ?? [])
    .filter((gap) => gap.state === 'open')
    .reduce((sum, gap) => sum + gap.count, 0),
)
const deciding = ref(false)
const decision = ref({ state: 'accepted' as Schemas['GapState'], until: '', owner: '', note: '' })

/** At once; as a job where there is so much to compare that nobody should wait for an answer. */
function compare() {
  const known = (levels.value?.rosters ?? []).reduce((sum, one) => sum + one.devices, 0)
  void action.run(async () => {
    if (known <= jobRows.value) return got(api.POST('/api/v1/levels/compare'))
    const params = { header: { prefer: 'respond-async' } }
    return job.follow((await got(api.POST('/api/v1/levels/compare', { params }))) as Schemas['Job'])
  })
}

function mend(how: Schemas['Mend']) {
  const body = { which: { ids: selected.value }, mend: how }
  void preview.open({
    look: () => got(api.POST('/api/v1/discrepancies/mend/preview', { body })),
    act: (digest, reason) =>
      got(api.POST('/api/v1/discrepancies/mend', { body: { ...body, digest, reason } })),
    done: () => (selected.value = []),
  })
}

async function decide() {
  const { state, until, owner, note } = decision.value
  const body = {
    which: { ids: selected.value },
    state,
    until_on: state === 'ignored' ? until : null,
    owner: owner || null,
    note: note || null,
  }
  const done = await action.run(() => got(api.POST('/api/v1/discrepancies/decide', { body })))
  if (!done) return
  deciding.value = false
  selected.value = []
}

const exportAddress = (form: string) => {
  const given = Object.entries({ ...asked.value, form }).filter(([, value]) => value !== undefined)
  const query = new URLSearchParams(given.map(([name, value]) => [name, String(value)]))
  return at(`/api/v1/discrepancies/export?${query}`)
}
const states = computed(() => choices('gap_state').filter((one) => one.value !== 'closed'))
</script>

<template>
  <div class="page-head">
    <h1>Levels</h1>
    <span v-if="levels?.at && today" class="muted grow"
      >compared {{ age(levels.at, today.now) }} ago,
      {{ open ? `${number(open)} open` : 'nothing open: the books are level' }}</span
    >
    <span v-else class="grow" />
    <v-btn variant="text" to="/sources">Sources</v-btn>
    <v-btn
      v-if="session.may('level')"
      variant="outlined"
      color="primary"
      :loading="action.busy.value"
      @click="compare"
      >Compare now</v-btn
    >
  </div>
  <ProblemAlert :error="error" />
  <JobBar v-if="job.state.job" :job="job.state.job" />
  <v-card v-if="levels && !levels.at" class="pa-6 text-center muted"
    >Nothing was compared yet. Add a source and run it, or hand a roster over; then compare.</v-card
  >
  <div v-if="levels?.at" class="pictures">
    <PatternPicture
      :levels="levels"
      :chosen="mask"
      @choose="(one) => ask({ pattern: one === mask ? undefined : String(one) })"
    />
    <TrendPicture v-if="trend?.length" :days="trend" />
  </div>
  <section v-if="mask !== null" class="mt-4">
    <div class="page-head">
      <h2>
        Known by
        {{
          (levels?.rosters ?? [])
            .filter((_, place) => (mask ?? 0) & (1 << place))
            .map((roster) => roster.name)
            .join(', ') || 'nobody'
        }}
        alone
      </h2>
      <v-btn size="small" variant="text" @click="ask({ pattern: undefined })">Close</v-btn>
    </div>
    <DataList
      label="Devices of the pattern"
      :columns="presentColumns"
      :items="present.data.value?.items ?? []"
      :row-key="(one) => one.device_id ?? one.serial ?? ''"
      :loading="present.isFetching.value"
      :error="present.error.value"
      height="260px"
    >
      <template #device="{ item }"
        ><router-link v-if="item.device_id" :to="`/devices/${item.device_id}`">{{
          called({ ...item, id: item.device_id ?? 0 })
        }}</router-link
        ><span v-else class="tone-warn">no device here</span></template
      >
    </DataList>
    <p v-if="present.data.value?.next" class="muted">The first 200 are shown.</p>
  </section>
  <section v-if="levels?.at" class="mt-4">
    <div class="page-head">
      <h2>Discrepancies</h2>
      <v-select
        :model-value="asked.kind"
        :items="choices('gap')"
        label="What"
        clearable
        class="choice"
        @update:model-value="(value) => ask({ kind: value ?? undefined })"
      />
      <v-select
        :model-value="asked.source"
        :items="sources"
        label="With"
        clearable
        class="choice"
        @update:model-value="(value) => ask({ source: value ? String(value) : undefined })"
      />
      <v-select
        :model-value="asked.state"
        :items="choices('gap_state')"
        label="State"
        clearable
        class="choice"
        @update:model-value="(value) => ask({ state: value ?? undefined })"
      />
      <v-checkbox
        :model-value="asked.near ?? false"
        label="resembling a device"
        @update:model-value="(value) => ask({ near: value ? 'true' : undefined })"
      />
      <span class="nowrap">
        <v-btn size="small" variant="text" color="primary" :href="exportAddress('csv')">CSV</v-btn>
        <v-btn size="small" variant="text" color="primary" :href="exportAddress('xlsx')"
          >XLSX</v-btn
        >
      </span>
    </div>
    <div v-if="selected.length && session.may('level')" class="marked">
      <strong>{{ plural(selected.length, 'line') }} marked:</strong>
      <v-btn
        v-for="how in mends"
        :key="how"
        size="small"
        variant="outlined"
        color="primary"
        @click="mend(how)"
        >{{ label('mend', how) }}</v-btn
      >
      <v-btn size="small" variant="text" color="primary" @click="deciding = true"
        >Decide about them</v-btn
      >
    </div>
    <DataList
      v-model:selected="selected"
      label="Discrepancies"
      :columns="columns"
      :items="gaps.items.value"
      :row-key="(gap) => gap.id"
      :loading="gaps.isFetching.value"
      :error="gaps.error.value"
      :more="gaps.hasNextPage.value"
      empty="None: the books are level."
      @more="gaps.fetchNextPage()"
    >
      <template #label="{ item }"
        ><router-link v-if="item.device_id" :to="`/devices/${item.device_id}`">{{
          item.label
        }}</router-link
        ><template v-else>{{ item.label }}</template></template
      >
      <template #source="{ item }"
        ><router-link :to="`/sources/${item.source_id}`">{{ item.source }}</router-link></template
      >
      <template #title="{ item }"
        >{{ item.title }}<template v-if="item.field">: {{ item.field }}</template></template
      >
      <template #here="{ item }">
        <template v-if="item.near_id">
          <router-link :to="`/devices/${item.near_id}`" class="mono"
            ><template v-for="(piece, place) in item.near_ours" :key="place"
              ><mark v-if="piece.differs">{{ piece.text }}</mark
              ><template v-else>{{ piece.text }}</template></template
            ></router-link
          >
          <span class="muted ml-2">{{ item.near_name }}, {{ sure(item.near_percent) }}</span>
        </template>
        <template v-else>{{ item.field ? (item.ours ?? '–') : (item.stage ?? '–') }}</template>
      </template>
      <template #there="{ item }">
        <span v-if="item.near_id" class="mono"
          ><template v-for="(piece, place) in item.near_theirs" :key="place"
            ><mark v-if="piece.differs">{{ piece.text }}</mark
            ><template v-else>{{ piece.text }}</template></template
          ></span
        >
        <template v-else>{{ item.field ? item.theirs : (item.their_model ?? '–') }}</template>
      </template>
      <template #state="{ item }">
        <v-chip :color="item.state === 'open' ? 'warning' : 'secondary'">{{ item.state }}</v-chip>
        <span v-if="item.until_on" class="muted"> until {{ onDay(item.until_on) }}</span>
        <div v-if="item.owner || item.note" class="muted">
          {{ [item.owner, item.note].filter(Boolean).join(': ') }}
        </div>
      </template>
      <template #first_at="{ item }"
        ><span v-if="today" :title="atTime(item.first_at)">{{
          age(item.first_at, today.now)
        }}</span></template
      >
    </DataList>
  </section>
  <EditDialog
    v-model="deciding"
    :title="`Decide about ${plural(selected.length, 'line')}`"
    :label="`Decide (${number(selected.length)})`"
    :failure="action.failure.value"
    :busy="action.busy.value"
    :ready="decision.state !== 'ignored' || decision.until !== ''"
    @save="decide"
  >
    <v-select v-model="decision.state" :items="states" label="Decision" />
    <v-text-field
      v-if="decision.state === 'ignored'"
      v-model="decision.until"
      label="Until"
      type="date"
    />
    <v-text-field v-model="decision.owner" label="Whose business it is" />
    <v-text-field v-model="decision.note" label="Note" />
  </EditDialog>
</template>

<style scoped>
.grow {
  flex: 1 1 auto;
}
.pictures {
  display: grid;
  grid-template-columns: minmax(0, 1.7fr) minmax(0, 1fr);
  gap: 12px;
}
.choice {
  flex: 0 1 205px;
}
.marked {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
  margin-bottom: 8px;
}
mark {
  background: rgba(var(--v-theme-warning), 0.28);
  color: inherit;
  font-weight: 700;
  border-radius: 2px;
}
@media (max-width: 900px) {
  .pictures {
    grid-template-columns: 1fr;
  }
}
</style>
