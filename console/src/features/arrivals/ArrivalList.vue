<script setup lang="ts">
import { mdiDownload, mdiUpload } from '@mdi/js'
import { computed, reactive, ref, useTemplateRef } from 'vue'

import { at } from '../../api/base'
import { api, got, type Preview, type Schemas, sendFile } from '../../api/client'
import { readAgain } from '../../api/queries'
import DataList from '../../shared/tables/DataList.vue'
import { atTime, onDay, plural } from '../../shared/formats'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import Picker from '../../shared/fields/Picker.vue'
import { usePages } from '../../shared/tables/usePages'
import { usePreview } from '../../shared/actions/usePreview'
import { useAction } from '../../shared/actions/useAction'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import { useSession } from '../../shared/actions/useSession'

/** Arrivals: those that wait for a coordinator, those at one stage, those of a pass, or all. */
const {
  view,
  way = null,
  passId = null,
} = defineProps<{
  view: 'waiting' | 'board' | 'refused' | 'all'
  way?: Schemas['WayStage'] | null
  passId?: number | null
}>()
const session = useSession()
const preview = usePreview()
const { label } = useVocabulary()
const persons = reactive<Record<number, string>>({})
const arrivals = usePages<Schemas['Arrival']>(
  () => ['arrivals', view, way, passId],
  (cursor) =>
    got(
      api.GET('/api/v1/arrivals', {
        params: {
          query: {
            waiting: view === 'waiting',
            outcome: view === 'refused' ? 'refused' : undefined,
            way: way ?? undefined,
            pass_id: passId ?? undefined,
            cursor,
          },
        },
      }),
    ),
)
const columns = computed(() => [
  { key: 'at', title: 'At' },
  ...(view === 'waiting' || view === 'refused' ? [] : [{ key: 'way', title: 'How far' }]),
  ...(view === 'board' ? [{ key: 'since', title: 'Since' }] : []),
  { key: 'device', title: 'Device' },
  { key: 'hardware', title: 'Hardware' },
  { key: 'person', title: 'Person' },
  ...(passId === null ? [{ key: 'pass_label', title: 'Pass' }] : []),
  ...(view === 'board' ? [] : [{ key: 'why', title: view === 'waiting' ? 'Waits for' : 'Why' }]),
  ...(view === 'waiting' && session.may('manage-devices') ? [{ key: 'act', title: 'Decide' }] : []),
])
const { failure, run } = useAction()

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
    await readAgain(['arrivals'])
  })

const FILE = 'application/octet-stream'
const picker = useTemplateRef<HTMLInputElement>('picker')
function bringBack(event: Event) {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  input.value = ''
  if (file) giveByList(file)
}

function giveByList(list: Blob) {
  void preview.open({
    look: () => sendFile<Preview>('/arrivals/assignments/preview', [], list, FILE),
    act: async (digest, reason) => {
      const asked: [string, string][] = [['digest', digest]]
      if (reason) asked.push(['reason', reason])
      await sendFile<Preview>('/arrivals/assignments/apply', asked, list, FILE)
      marked.value = []
      toAll.value = ''
    },
  })
}

/** Those that are marked; to one person, or each to whoever is named in its row. */
const marked = ref<(string | number)[]>([])
const toAll = ref('')
const given = computed(() =>
  arrivals.items.value
    .filter((one) => marked.value.includes(one.id) && one.device_id && one.claim === null)
    .map((one) => ({ device: one.device_id, person: toAll.value || persons[one.id] })),
)
const ready = computed(() => given.value.length > 0 && given.value.every((one) => one.person))

function giveMarked() {
  const quoted = (text: string | undefined) => `"${(text ?? '').replaceAll('"', '""')}"`
  const lines = given.value.map((one) => `${one.device},${quoted(one.person)}`)
  giveByList(new Blob([['Device,Person', ...lines].join('\n')]))
}
const stated = (arrival: Schemas['Arrival'], field: string) =>
  (arrival.stated as Record<string, string | null>)[field] ?? ''
const clock = (time: string | null) =>
  time ? new Date(time).toLocaleTimeString([], { hour: '2-digit', minute: '2-digit' }) : ''
function told(arrival: Schemas['Arrival']): string {
  const { done, total, doing, failed } = (arrival.progress ?? {}) as Record<string, string | number>
  return [`${done ?? 0} of ${total ?? 0}`, failed ?? doing].filter(Boolean).join(': ')
}
</script>

<template>
  <ProblemAlert :error="failure" />
  <div v-if="view === 'waiting' && session.may('manage-devices')" class="row-gap mb-2">
    <span class="muted">Many at once: take the list out, fill in “Person”, bring it back.</span>
    <v-spacer />
    <v-btn
      size="small"
      variant="text"
      :prepend-icon="mdiDownload"
      :href="at('/api/v1/arrivals/waiting/file?form=xlsx')"
      download="waiting.xlsx"
      >Take it out</v-btn
    >
    <v-btn size="small" variant="text" :prepend-icon="mdiUpload" @click="picker?.click()"
      >Bring it back</v-btn
    >
    <input
      ref="picker"
      type="file"
      accept=".csv,.xlsx,.ods"
      class="visually-hidden"
      aria-label="The list, filled in"
      @change="bringBack"
    />
  </div>
  <form v-if="marked.length" class="row-gap mb-2" @submit.prevent="giveMarked">
    <span>{{ plural(given.length, 'device') }} marked:</span>
    <Picker
      kind="person"
      v-model="toAll"
      label="One person for the marked ones"
      short="One person"
    />
    <span class="muted">or each to the person in its row</span>
    <v-btn type="submit" size="small" color="primary" variant="outlined" :disabled="!ready"
      >Preview giving them</v-btn
    >
  </form>
  <DataList
    label="Arrivals"
    v-bind="
      view === 'waiting' && session.may('manage-devices')
        ? {
            selected: marked,
            'onUpdate:selected': (value: (string | number)[] | undefined) => (marked = value ?? []),
          }
        : {}
    "
    :columns="columns"
    :items="arrivals.items.value"
    :row-key="(one) => one.id"
    :loading="arrivals.isFetching.value"
    :error="arrivals.error.value"
    :more="arrivals.hasNextPage.value"
    :empty="view === 'waiting' ? 'Nobody is waiting.' : 'None yet. Devices arrive with a pass.'"
    @more="arrivals.fetchNextPage()"
  >
    <template #at="{ item }"
      ><span class="nowrap">{{ onDay(item.at) }}</span>
      <div class="muted">{{ atTime(item.at).split(', ')[1] }}</div></template
    >
    <template #way="{ item }">
      <router-link :to="`/arrivals/${item.id}`">{{ label('way_stage', item.way) }}</router-link>
      <div v-if="item.way === 'asked'" class="muted">
        {{ item.asks.map((one) => label('need', one)).join(', ') }}; until
        {{ clock(item.lapses_at) }}
      </div>
      <div v-else-if="item.way === 'setting_up' || item.way === 'failed'" class="muted">
        {{ told(item) }}
      </div>
    </template>
    <template #since="{ item }"
      ><span class="nowrap">{{ atTime(item.moved_at) }}</span></template
    >
    <template #device="{ item }">
      <router-link v-if="item.device_id" :to="`/devices/${item.device_id}`" class="nowrap">{{
        item.device_name ?? (stated(item, 'serial') || `device no. ${item.device_id}`)
      }}</router-link>
      <span v-else class="mono">{{ stated(item, 'serial') }}</span>
    </template>
    <template #hardware="{ item }"
      >{{ stated(item, 'maker') }} {{ stated(item, 'model') }}
      <div class="muted">
        {{ stated(item, 'platform') }} {{ stated(item, 'os_version') }}
      </div></template
    >
    <template #person="{ item }">
      <template v-if="item.person_name">{{ item.person_name }}</template>
      <span v-else-if="stated(item, 'person')" class="muted"
        >says: {{ stated(item, 'person') }}</span
      >
      <template v-else>–</template>
    </template>
    <template #pass_label="{ item }">
      <router-link v-if="item.pass_id" :to="`/passes/${item.pass_id}`">{{
        item.pass_label
      }}</router-link>
      <template v-else>–</template>
    </template>
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
        <Picker
          kind="person"
          :model-value="persons[item.id] ?? ''"
          @update:model-value="persons[item.id] = $event"
          :label="`Person for ${item.device_name}`"
          short="Person"
          :suggested="stated(item, 'person')"
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
</template>

<style scoped>
.give {
  display: flex;
  gap: 6px;
  align-items: center;
}
</style>
