<script setup lang="ts">
import { mdiTrayArrowUp } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, got, type Preview, type Schemas, sendFile } from '../../api/client'
import DataList from '../../shared/tables/DataList.vue'
import { called, onDay, plural } from '../../shared/formats'
import Picker from '../../shared/fields/Picker.vue'
import StageChip from '../../shared/tables/StageChip.vue'
import { useOrder } from '../../shared/tables/useOrder'
import { usePages } from '../../shared/tables/usePages'
import { useHold } from '../../shared/actions/useHold'
import { useAction } from '../../shared/actions/useAction'
import { usePreview } from '../../shared/actions/usePreview'
import DeviceActs from '../../shared/dialogs/DeviceActs.vue'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import LeaveDialog from './LeaveDialog.vue'
import RefusedList from '../arrivals/RefusedList.vue'
import { useSession } from '../../shared/actions/useSession'

const NOBODY =
  'Nobody fits. People come from a CSV with user name, name, mail, department, site, groups.'
const route = useRoute()
const router = useRouter()
const session = useSession()
const preview = usePreview()
const hold = useHold()
const input = ref<HTMLInputElement | null>(null)
const query = computed(() => (route.query.query ? String(route.query.query) : undefined))
const group = computed(() => (route.query.group ? String(route.query.group) : undefined))
const pool = computed(() => (route.query.pool ? String(route.query.pool) : undefined))
const chosen = computed(() => (route.query.person ? Number(route.query.person) : null))
const { data: person } = useQuery({
  queryKey: computed(() => ['person', chosen.value]),
  enabled: computed(() => chosen.value !== null),
  queryFn: () =>
    got(
      api.GET('/api/v1/people/{person}', {
        params: { path: { person: String(chosen.value ?? 0) } },
      }),
    ),
})
const order = useOrder()
const asked = computed(() => ({
  query: query.value,
  group: group.value,
  pool: pool.value,
  over_quota: route.query.over ? true : undefined,
  sort: (order.value?.key ?? 'id') as 'id',
  descending: order.value?.descending || undefined,
}))
const { items, error, isFetching, hasNextPage, fetchNextPage } = usePages<Schemas['Person']>(
  () => ['people', asked.value],
  (cursor) => got(api.GET('/api/v1/people', { params: { query: { ...asked.value, cursor } } })),
)
const columns = [
  { key: 'name', title: 'Name', sort: 'name' },
  { key: 'user_name', title: 'User name', sort: 'user_name' },
  { key: 'department', title: 'Department', sort: 'department' },
  { key: 'site', title: 'Site', sort: 'site' },
  { key: 'groups', title: 'Groups' },
  { key: 'holding', title: 'Devices', number: true, sort: 'holding' },
]
const go = (more: Record<string, string | number | null | undefined>) =>
  router.push({ query: { ...route.query, ...more } as Record<string, string> })

// What was chosen stands above the list.
watch(chosen, () => window.scrollTo({ top: 0 }))
const leaving = ref(false)
const { failure, run } = useAction()
const comeBack = () =>
  run(() =>
    got(
      api.POST('/api/v1/people/{person}/left', {
        params: { path: { person: String(chosen.value ?? 0) } },
        body: { left: false },
      }),
    ),
  )
/** Their devices in use, to be dealt with at once. */
const inUse = computed(() =>
  (person.value?.devices ?? []).filter((one) => one.stage !== 'retired').map((one) => one.id),
)

function importFile(event: Event) {
  const field = event.target as HTMLInputElement
  const file = field.files?.[0]
  if (!file) return
  void preview.open({
    look: () => sendFile<Preview>('/people/imports/preview', [], file, 'text/csv'),
    act: (digest, reason) =>
      sendFile<Preview>(
        '/people/imports/apply',
        [['digest', digest], ...(reason ? [['reason', reason] as [string, string]] : [])],
        file,
        'text/csv',
      ),
  })
  field.value = ''
}
</script>

<template>
  <div class="page-head">
    <h1>People</h1>
    <router-link to="/groups">Groups</router-link>
    <template v-if="session.may('manage-people')">
      <input
        ref="input"
        type="file"
        accept=".csv,text/csv"
        class="visually-hidden"
        aria-label="CSV of people"
        @change="importFile"
      />
      <v-btn color="primary" :prepend-icon="mdiTrayArrowUp" @click="input?.click()"
        >Import a CSV</v-btn
      >
    </template>
  </div>
  <p v-if="pool" class="row-gap">
    Only people whose devices take a seat of
    <router-link :to="`/licences/${pool}`">this pool</router-link>.
    <v-btn size="small" variant="text" @click="go({ pool: undefined })">Show everybody</v-btn>
  </p>
  <p v-if="asked.over_quota" class="row-gap">
    Only people who have more devices than they may.
    <v-btn size="small" variant="text" @click="go({ over: undefined })">Show everybody</v-btn>
  </p>
  <div class="filters mb-3">
    <v-text-field
      :model-value="query"
      label="User name, name or mail"
      clearable
      @change="go({ query: ($event.target as HTMLInputElement).value || undefined })"
      @click:clear="go({ query: undefined })"
    />
    <Picker
      kind="group"
      :model-value="group ?? null"
      label="Group"
      @update:model-value="go({ group: $event || undefined })"
    />
  </div>
  <v-card v-if="person && chosen" class="pa-4 mb-3">
    <div class="row-gap">
      <h2>{{ person.name }}</h2>
      <v-chip v-if="person.left_at" color="warning">left on {{ onDay(person.left_at) }}</v-chip>
      <span class="muted">{{
        [person.user_name, person.mail, person.department, person.site].filter(Boolean).join(' · ')
      }}</span>
      <v-spacer />
      <v-btn
        v-if="session.may('manage-devices')"
        size="small"
        variant="text"
        color="primary"
        @click="hold.open({ person: chosen }, `all devices of ${person.name}`)"
        >Hold their devices</v-btn
      >
      <template v-if="session.may('manage-people')">
        <v-btn
          v-if="!person.left_at || inUse.length"
          size="small"
          variant="text"
          color="primary"
          @click="leaving = true"
          >{{ person.left_at ? 'Close what is left' : 'Has left' }}</v-btn
        >
        <v-btn v-if="person.left_at" size="small" variant="text" color="primary" @click="comeBack"
          >Is back</v-btn
        >
      </template>
      <v-btn size="small" variant="text" @click="go({ person: undefined })">Close</v-btn>
    </div>
    <p v-if="person.left_at && person.holding" class="tone-bad">
      {{ person.name }} has left and still has {{ plural(person.holding, 'device') }}.
    </p>
    <p v-for="quota in person.quotas" :key="quota.platform ?? 'all'">
      <strong :class="{ 'tone-bad': quota.counted > quota.devices }"
        >{{ quota.counted }} of {{ quota.words }}</strong
      >
      <span class="muted"> by the policy “{{ quota.policy }}”</span>
    </p>
    <ProblemAlert :error="failure" />
    <RefusedList :person="person.id" class="my-2" />
    <p class="muted">In {{ person.groups.join(', ') || 'no group' }}.</p>
    <p v-for="one in person.holds" :key="one.id">
      All devices of theirs are
      {{ one.state === 'coming' ? 'held from ' + onDay(one.from_on) : 'held' }} until
      {{ onDay(one.until_on) }}: {{ one.reason }} <span class="muted">({{ one.owner }})</span>
    </p>
    <DeviceActs
      v-if="inUse.length"
      in-use
      :selection="{ ids: inUse }"
      :label="inUse.length === 1 ? 'their device' : `all ${inUse.length} devices of ${person.name}`"
      class="my-3"
    >
      <span class="muted">{{
        inUse.length === 1 ? 'Their device:' : `All ${inUse.length} devices:`
      }}</span>
    </DeviceActs>
    <div v-for="device in person.devices" :key="device.id" class="row-gap mt-1">
      <router-link :to="`/devices/${device.id}`">{{ called(device) }}</router-link>
      <StageChip :stage="device.stage" :flag="device.flag" :retire-on="device.retire_on" />
      <span class="muted">{{
        [`${device.maker ?? ''} ${device.model ?? ''}`.trim(), device.serial, device.ownership]
          .filter(Boolean)
          .join(' · ')
      }}</span>
    </div>
  </v-card>
  <DataList
    v-model:order="order"
    label="People"
    :columns="columns"
    :items="items"
    :row-key="(one) => one.id"
    :to="(one) => router.resolve({ query: { ...route.query, person: one.id } }).fullPath"
    :loading="isFetching"
    :error="error"
    :more="hasNextPage"
    :empty="NOBODY"
    @more="fetchNextPage()"
  >
    <template #name="{ item }"
      ><router-link :to="{ query: { ...route.query, person: item.id } }">{{
        item.name
      }}</router-link>
      <v-chip v-if="item.left_at" color="warning">left</v-chip></template
    >
    <template #department="{ item }">{{ item.department ?? '–' }}</template>
    <template #site="{ item }">{{ item.site ?? '–' }}</template>
    <template #groups="{ item }">{{ item.groups.join(', ') }}</template>
    <template #holding="{ item }"
      ><router-link v-if="item.holding" :to="`/devices?person=${item.id}`">{{
        item.holding
      }}</router-link
      ><span v-else class="muted">0</span></template
    >
  </DataList>
  <LeaveDialog v-if="person" v-model="leaving" :person="person" />
</template>

<style scoped>
.filters {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(100%, 220px), 340px));
  gap: 8px;
}
</style>
