<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { computed, reactive, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, got, type Schemas } from '../../api/client'
import { queries } from '../../api/queries'
import DataList from '../../shared/tables/DataList.vue'
import { atTime, number, onDay } from '../../shared/formats'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import StageChip from '../../shared/tables/StageChip.vue'
import { usePages } from '../../shared/tables/usePages'
import { usePreview } from '../../shared/actions/usePreview'
import { useAction } from '../../shared/actions/useAction'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import { useSession } from '../../shared/actions/useSession'

const route = useRoute()
const router = useRouter()
const session = useSession()
const preview = usePreview()
const tab = computed({
  get: () => String(route.query.tab ?? 'waiting'),
  set: (value) => void router.push({ query: { tab: value } }),
})
const persons = reactive<Record<number, string>>({})
const arrivals = usePages<Schemas['Arrival']>(
  () => ['arrivals', tab.value],
  (cursor) =>
    got(
      api.GET('/api/v1/arrivals', {
        params: {
          query: {
            waiting: tab.value === 'waiting',
            outcome: tab.value === 'refused' ? 'refused' : undefined,
            cursor,
          },
        },
      }),
    ),
)
const passes = usePages<Schemas['Pass']>(['passes'], (cursor) =>
  got(api.GET('/api/v1/passes', { params: { query: { cursor } } })),
)
const columns = computed(() => [
  { key: 'at', title: 'At' },
  ...(tab.value === 'all' ? [{ key: 'outcome', title: 'Outcome' }] : []),
  { key: 'device', title: 'Device' },
  { key: 'hardware', title: 'Hardware' },
  { key: 'person', title: 'Person' },
  { key: 'pass_label', title: 'Pass' },
  { key: 'why', title: tab.value === 'waiting' ? 'Waits for' : 'Why' },
  ...(tab.value === 'waiting' && session.may('manage-devices')
    ? [{ key: 'act', title: 'Decide' }]
    : []),
])
const passColumns = [
  { key: 'label', title: 'Pass' },
  { key: 'state', title: 'State' },
  { key: 'uses', title: 'Uses', number: true },
  { key: 'activation', title: 'Brought into use by' },
  { key: 'ownership', title: 'Declares' },
  { key: 'person_name', title: 'For' },
  { key: 'valid_until', title: 'Until' },
  { key: 'act', title: '' },
]
const { failure, run } = useAction()
const { choices } = useVocabulary()
const open = ref(false)
const made = ref<Schemas['PassCode'] | null>(null)
const form = reactive({
  label: '',
  activation: 'person' as Schemas['Activation'],
  ownership: null as Schemas['Ownership'] | null,
  person: '',
  valid_days: 14,
  max_uses: '',
})

function assign(deviceId: number, person: string | null) {
  const path = { device_id: deviceId }
  void preview.open({
    look: () =>
      got(
        api.POST('/api/v1/devices/{device_id}/assign/preview', {
          params: { path },
          body: { person },
        }),
      ),
    act: (digest, reason) =>
      got(
        api.POST('/api/v1/devices/{device_id}/assign/apply', {
          params: { path },
          body: { person, digest, reason },
        }),
      ),
  })
}

function handOver(arrivalId: number) {
  const path = { arrival_id: arrivalId }
  void preview.open({
    look: () =>
      got(api.POST('/api/v1/arrivals/{arrival_id}/hand-over/preview', { params: { path } })),
    act: (digest, reason) =>
      got(
        api.POST('/api/v1/arrivals/{arrival_id}/hand-over', {
          params: { path },
          body: { digest, reason },
        }),
      ),
  })
}

const turnAway = (arrivalId: number) =>
  run(async () => {
    await got(
      api.POST('/api/v1/arrivals/{arrival_id}/turn-away', {
        params: { path: { arrival_id: arrivalId } },
        body: {},
      }),
    )
    await queries.invalidateQueries({ queryKey: ['arrivals'] })
  })

const makePass = () =>
  run(async () => {
    made.value = await got(
      api.POST('/api/v1/passes', {
        body: {
          label: form.label,
          activation: form.activation,
          ownership: form.ownership,
          person: form.person || null,
          valid_days: Number(form.valid_days),
          max_uses: form.max_uses ? Number(form.max_uses) : null,
        },
      }),
    )
  })

async function revoke(pass: Schemas['Pass']) {
  await got(
    api.POST('/api/v1/passes/{pass_id}/revoke', {
      params: { path: { pass_id: pass.id } },
      body: {},
    }),
  )
  await queries.invalidateQueries({ queryKey: ['passes'] })
}

const asDocument = (svg: string) => svg.replace('<svg', '<svg xmlns="http://www.w3.org/2000/svg"')
const picture = computed(() =>
  made.value ? `data:image/svg+xml,${encodeURIComponent(asDocument(made.value.qr_svg))}` : '',
)
const stated = (arrival: Schemas['Arrival'], field: string) =>
  (arrival.stated as Record<string, string | null>)[field] ?? ''
</script>

<template>
  <div class="page-head">
    <h1>Arrivals</h1>
    <v-btn
      v-if="session.may('prepare')"
      color="primary"
      :prepend-icon="mdiPlus"
      @click="((open = true), (made = null), (failure = null))"
      >Make a pass</v-btn
    >
  </div>
  <v-tabs v-model="tab" density="compact" color="primary" class="mb-3">
    <v-tab value="waiting">Waiting for you</v-tab><v-tab value="refused">Refused</v-tab
    ><v-tab value="all">All arrivals</v-tab><v-tab value="passes">Passes</v-tab>
  </v-tabs>
  <ProblemAlert v-if="!open" :error="failure" />
  <DataList
    v-if="tab !== 'passes'"
    label="Arrivals"
    :columns="columns"
    :items="arrivals.items.value"
    :row-key="(one) => one.id"
    :loading="arrivals.isFetching.value"
    :error="arrivals.error.value"
    :more="arrivals.hasNextPage.value"
    :empty="tab === 'waiting' ? 'Nobody is waiting.' : 'None yet. Devices arrive with a pass.'"
    @more="arrivals.fetchNextPage()"
  >
    <template #at="{ item }"
      ><span class="nowrap">{{ onDay(item.at) }}</span>
      <div class="muted">{{ atTime(item.at).split(', ')[1] }}</div></template
    >
    <template #outcome="{ item }"><StageChip :stage="item.outcome" /></template>
    <template #device="{ item }">
      <router-link v-if="item.device_id" :to="`/devices/${item.device_id}`" class="nowrap">{{
        item.device_name ?? `device ${item.device_id}`
      }}</router-link>
      <span v-else class="mono">{{ stated(item, 'serial') }}</span>
    </template>
    <template #hardware="{ item }"
      >{{ stated(item, 'maker') }} {{ stated(item, 'model') }}
      <div class="muted">
        {{ stated(item, 'platform') }} {{ stated(item, 'os_version') }}
      </div></template
    >
    <template #person="{ item }">{{ item.person_name ?? stated(item, 'person') ?? '–' }}</template>
    <template #pass_label="{ item }">{{ item.pass_label ?? '–' }}</template>
    <template #why="{ item }">
      <div v-for="reason in item.reasons" :key="reason.code">
        {{ reason.explanation || `${reason.policy}: ${reason.wanted}; ${reason.actual}` }}
        <div class="muted">{{ reason.remedy }}</div>
      </div>
      <span v-if="!item.reasons.length && item.outcome === 'parked'"
        >a person, or a coordinator's word</span
      >
    </template>
    <template #act="{ item }">
      <form
        v-if="item.device_id && item.claim === null"
        class="give"
        @submit.prevent="assign(item.device_id, persons[item.id] ?? '')"
      >
        <input
          v-model="persons[item.id]"
          :aria-label="`Person for ${item.device_name}`"
          placeholder="user name or mail"
          size="17"
        />
        <v-btn
          type="submit"
          size="small"
          variant="outlined"
          color="primary"
          :disabled="!persons[item.id]"
          >Give</v-btn
        >
        <v-btn size="small" variant="text" @click="assign(item.device_id, null)">Nobody</v-btn>
      </form>
      <div v-else-if="item.claim === 'open'" class="give">
        <v-btn size="small" variant="outlined" color="primary" @click="handOver(item.id)"
          >Hand over</v-btn
        >
        <v-btn size="small" variant="text" @click="turnAway(item.id)">Turn away</v-btn>
      </div>
    </template>
  </DataList>
  <DataList
    v-else
    label="Passes"
    :columns="passColumns"
    :items="passes.items.value"
    :row-key="(one) => one.id"
    :loading="passes.isFetching.value"
    :error="passes.error.value"
    :more="passes.hasNextPage.value"
    empty="No passes yet: make one, print its QR, hand it out."
    @more="passes.fetchNextPage()"
  >
    <template #uses="{ item }"
      >{{ number(item.uses) }}{{ item.max_uses ? ` of ${number(item.max_uses)}` : '' }}</template
    >
    <template #ownership="{ item }">{{ item.ownership ?? '–' }}</template>
    <template #person_name="{ item }">{{ item.person_name ?? 'anybody' }}</template>
    <template #valid_until="{ item }"
      ><span class="nowrap">{{ onDay(item.valid_until) }}</span></template
    >
    <template #act="{ item }"
      ><v-btn
        v-if="session.may('prepare') && item.state === 'valid'"
        size="small"
        variant="text"
        color="error"
        @click="revoke(item)"
        >Revoke</v-btn
      ></template
    >
  </DataList>

  <v-dialog v-model="open" max-width="560" aria-label="Make a pass">
    <v-card>
      <v-card-title class="pt-4">{{
        made ? 'The code is shown this once' : 'Make a pass'
      }}</v-card-title>
      <v-card-text v-if="made" class="text-center stack">
        <p class="code mono">{{ made.code }}</p>
        <img :src="picture" :alt="`QR of ${made.url}`" width="200" height="200" class="qr" />
        <p class="muted">{{ made.url }}</p>
      </v-card-text>
      <v-card-text v-else class="stack">
        <ProblemAlert :error="failure" />
        <v-text-field v-model="form.label" label="What it is for" autofocus />
        <v-select
          v-model="form.activation"
          label="Devices come into use"
          :items="choices('activation')"
        />
        <v-select
          v-model="form.ownership"
          :items="choices('ownership')"
          label="Declares them as (else: personal)"
          clearable
        />
        <v-text-field v-model="form.person" label="Only for this person (user name or mail)" />
        <div class="row-gap">
          <v-text-field
            v-model="form.valid_days"
            label="Valid for (days)"
            type="number"
            min="1"
          /><v-text-field
            v-model="form.max_uses"
            label="Devices (empty: any number)"
            type="number"
            min="1"
          />
        </div>
      </v-card-text>
      <v-card-actions>
        <v-spacer />
        <v-btn variant="text" @click="open = false">{{ made ? 'Done' : 'Leave it' }}</v-btn>
        <v-btn v-if="!made" color="primary" variant="flat" :disabled="!form.label" @click="makePass"
          >Make the pass</v-btn
        >
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.give {
  display: flex;
  gap: 6px;
  align-items: center;
}
.give input {
  border: 1px solid rgba(var(--v-theme-on-surface), 0.35);
  border-radius: 4px;
  padding: 4px 7px;
  background: transparent;
  color: inherit;
  font: inherit;
}
.code {
  font-size: 2rem;
  letter-spacing: 0.08em;
  font-weight: 650;
}
.qr {
  background: #fff;
  padding: 8px;
  border-radius: 6px;
}
</style>
