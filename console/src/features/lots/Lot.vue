<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { at } from '../../api/base'
import { api, got, listed, type Preview, type Schemas } from '../../api/client'
import { readAgain } from '../../api/queries'
import DataList from '../../shared/tables/DataList.vue'
import { atTime, number, plural, words } from '../../shared/formats'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { usePages } from '../../shared/tables/usePages'
import { usePreview } from '../../shared/actions/usePreview'
import { useAction } from '../../shared/actions/useAction'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import { useSession } from '../../shared/actions/useSession'
import LotReading from './LotReading.vue'
import LotNotes from './LotNotes.vue'
import RowDialog from './RowDialog.vue'

type Verdict = Schemas['Verdict']
const verdicts: Verdict[] = ['add', 'change', 'unchanged', 'conflict', 'reject', 'no_row']
const tones: Record<string, string | undefined> = {
  add: 'success',
  conflict: 'warning',
  reject: 'error',
}

const route = useRoute()
const router = useRouter()
const session = useSession()
const preview = usePreview()
const path = computed(() => ({ lot_id: Number(route.params.id) }))
const verdict = computed(() => verdicts.find((one) => one === route.query.verdict))
const note = computed(() => (route.query.note ? String(route.query.note) : undefined))
/** The row that somebody was sent to. */
const wantedRow = computed(() => (route.query.row ? Number(route.query.row) : null))
const DONE: Partial<Record<Verdict, string>> = { add: 'added', change: 'changed' }
/** What an applied lot did is no longer to be done. */
const said = (one: Verdict) =>
  (lot.value?.status === 'applied' ? DONE[one] : undefined) ?? words(one)
const { failure, run } = useAction()
const { jobRows } = useVocabulary()

const { data: lot, error } = useQuery({
  queryKey: computed(() => ['lot', path.value]),
  queryFn: () => got(api.GET('/api/v1/lots/{lot_id}', { params: { path: path.value } })),
})
const { data: notes } = useQuery({
  queryKey: computed(() => ['lot-notes', path.value]),
  queryFn: () => listed(api.GET('/api/v1/lots/{lot_id}/notes', { params: { path: path.value } })),
})
const rows = usePages<Schemas['LotRow']>(
  () => ['lot-rows', path.value, verdict.value, note.value, wantedRow.value],
  (cursor) =>
    got(
      api.GET('/api/v1/lots/{lot_id}/rows', {
        params: {
          path: path.value,
          query: {
            verdict: verdict.value,
            note: note.value,
            first: wantedRow.value ?? undefined,
            cursor,
          },
        },
      }),
    ),
)
const columns = computed(() => [
  { key: 'row', title: 'Row', number: true },
  { key: 'verdict', title: 'Verdict' },
  ...(lot.value?.headers ?? []).map((header) => ({ key: `cell:${header}`, title: header })),
  { key: 'notes', title: 'Notes' },
])
const cellKeys = computed(() =>
  (lot.value?.headers ?? []).map((header) => ({ slot: `cell:${header}`, header })),
)

const editing = ref<Schemas['LotRow'] | null>(null)
const editable = computed(() => session.may('import') && lot.value?.status === 'draft')
const left = computed(() => (lot.value?.counts.conflict ?? 0) + (lot.value?.counts.reject ?? 0))
const settled = () => readAgain()
const large = (shown: Preview) =>
  shown.counts.reduce((sum, count) => sum + count.count, 0) > jobRows.value
    ? 'respond-async'
    : undefined
const finished = (answer: Schemas['Lot'] | Schemas['Job']) =>
  'phase' in answer ? preview.follow(answer) : answer

const only = (query: Record<string, string | undefined>) => router.push({ query })

function applyIt() {
  void preview.open({
    look: () => got(api.POST('/api/v1/lots/{lot_id}/preview', { params: { path: path.value } })),
    act: async (digest, reason, shown) => {
      const asked = {
        params: { path: path.value, header: { prefer: large(shown) } },
        body: { digest, reason },
      }
      await finished(await got(api.POST('/api/v1/lots/{lot_id}/apply', asked)))
    },
  })
}

function revertIt() {
  void preview.open({
    look: () =>
      got(api.POST('/api/v1/lots/{lot_id}/revert/preview', { params: { path: path.value } })),
    act: async (digest, reason, shown) => {
      const asked = {
        params: { path: path.value, header: { prefer: large(shown) } },
        body: { digest, reason },
      }
      await finished(await got(api.POST('/api/v1/lots/{lot_id}/revert', asked)))
    },
  })
}

function reserveNames() {
  const selection = { filter: `lot eq ${lot.value?.id} and stage eq "awaited"` }
  void preview.open({
    look: () => got(api.POST('/api/v1/naming/preview', { body: { selection } })),
    act: (digest, reason) =>
      got(api.POST('/api/v1/naming/apply', { body: { selection, digest, reason } })),
  })
}

const discard = () =>
  run(() =>
    got(api.POST('/api/v1/lots/{lot_id}/discard', { params: { path: path.value }, body: {} })),
  )
</script>

<template>
  <ProblemAlert :error="error ?? failure" />
  <template v-if="lot">
    <div class="page-head">
      <h1>
        Lot {{ lot.id }} · {{ lot.name }}
        <v-chip :color="{ draft: 'warning', applied: 'success' }[lot.status as string]">{{
          lot.status
        }}</v-chip>
      </h1>
      <v-btn :href="at(`/api/v1/lots/${lot.id}/file`)" variant="text">The file as given</v-btn>
      <v-btn v-if="lot.status === 'applied'" :to="`/devices?lot=${lot.id}`" variant="outlined"
        >{{ plural((lot.counts.add ?? 0) + (lot.counts.change ?? 0), 'device') }} of it</v-btn
      >
      <v-btn
        v-if="lot.status === 'applied' && session.may('prepare')"
        variant="outlined"
        @click="reserveNames"
        >Reserve names</v-btn
      >
      <template v-if="session.may('import')">
        <v-btn v-if="lot.status === 'draft'" variant="text" @click="discard">Discard</v-btn>
        <v-btn v-if="lot.status === 'draft'" color="primary" @click="applyIt"
          >Preview and apply</v-btn
        >
        <v-btn v-if="lot.status === 'applied'" color="primary" variant="outlined" @click="revertIt"
          >Preview the revert</v-btn
        >
      </template>
    </div>
    <v-alert v-if="route.query.repeated" type="info" class="mb-3"
      >This very file was checked before: it is this lot. Nothing was imported twice.</v-alert
    >
    <p class="muted mb-3">
      {{ lot.file_name ?? 'pasted' }}, {{ number(lot.content_bytes) }} bytes; checked
      {{ atTime(lot.checked_at) }} for {{ lot.created_by
      }}<template v-if="lot.applied_at">; applied {{ atTime(lot.applied_at) }}</template
      ><template v-if="lot.reverted_at">; reverted {{ atTime(lot.reverted_at) }}</template
      >.
      <template v-if="Object.keys(lot.defaults).length"
        >Blank cells:
        <span v-for="(value, field) in lot.defaults" :key="field" class="default"
          >{{ words(String(field)) }} = {{ value }}</span
        ></template
      >
    </p>
    <div class="stacked mb-4">
      <LotReading :lot="lot" :editable="editable" @settled="settled" />
      <LotNotes
        :lot="lot"
        :notes="notes ?? []"
        :chosen="note"
        :editable="editable"
        @choose="(code) => only(code ? { note: code } : {})"
        @settled="settled"
      />
    </div>
    <p v-if="wantedRow" class="row-gap mb-2">
      <span>From row {{ number(wantedRow) }} on.</span>
      <v-btn size="small" variant="text" color="primary" @click="only({})">Show all rows</v-btn>
    </p>
    <div class="row-gap mb-2" role="group" aria-label="Rows by verdict">
      <v-btn
        :variant="verdict || note || wantedRow ? 'text' : 'tonal'"
        size="small"
        @click="only({})"
        >All rows</v-btn
      >
      <v-btn
        v-for="one in verdicts"
        :key="one"
        size="small"
        :color="tones[one]"
        :variant="verdict === one ? 'tonal' : 'text'"
        :disabled="!lot.counts[one]"
        @click="only({ verdict: one })"
      >
        {{ number(lot.counts[one] ?? 0) }} {{ said(one) }}
      </v-btn>
      <v-spacer />
      <template v-if="left">
        <span class="muted">Take out {{ plural(left, 'row') }} to mend:</span>
        <v-btn
          size="small"
          variant="text"
          color="primary"
          :href="at(`/api/v1/lots/${lot.id}/takeout?form=xlsx`)"
          >XLSX</v-btn
        >
        <v-btn
          size="small"
          variant="text"
          color="primary"
          :href="at(`/api/v1/lots/${lot.id}/takeout`)"
          >CSV</v-btn
        >
        <v-btn
          v-if="session.may('import')"
          size="small"
          variant="outlined"
          color="primary"
          :to="`/lots?like=${lot.id}`"
          >Bring them back mended</v-btn
        >
      </template>
    </div>
    <DataList
      label="Rows of the lot"
      :columns="columns"
      :items="rows.items.value"
      :row-key="(row) => row.row"
      :loading="rows.isFetching.value"
      :error="rows.error.value"
      :more="rows.hasNextPage.value"
      :empty="`No such rows${note ? ` with the note “${words(note)}”` : ''}.`"
      @more="rows.fetchNextPage()"
    >
      <template #verdict="{ item }">
        <v-chip :color="tones[item.verdict]">{{ said(item.verdict) }}</v-chip>
      </template>
      <template #row="{ item }">
        <v-btn
          v-if="editable"
          size="small"
          variant="text"
          color="primary"
          :aria-label="`Edit row ${item.row}`"
          @click="editing = item"
          >{{ item.row }}</v-btn
        >
        <template v-else>{{ item.row }}</template>
      </template>
      <template v-for="{ slot, header } in cellKeys" :key="slot" #[slot]="{ item }">
        <span v-if="header in item.edited" class="mono"
          ><s class="muted">{{ item.cells[header] }}</s>
          {{ item.edited[header] ?? '(blank)' }}</span
        >
        <span v-else-if="header in item.kept" class="mono"
          ><s class="muted">{{ item.cells[header] }}</s> {{ item.kept[header] }}</span
        >
        <span v-else class="mono">{{ item.cells[header] ?? '' }}</span>
      </template>
      <template #notes="{ item }">
        <router-link v-if="item.device_id" :to="`/devices/${item.device_id}`" class="mr-2">{{
          item.device_name ?? `device no. ${item.device_id}`
        }}</router-link>
        <span v-for="(pair, field) in item.changes ?? {}" :key="field" class="change"
          >{{ words(String(field)) }}: {{ pair.old ?? '–' }} → <strong>{{ pair.new }}</strong></span
        >
        <div
          v-for="one in item.notes"
          :key="one.code + one.column"
          :class="{ 'tone-bad': one.severity === 'error', 'tone-warn': one.severity === 'warn' }"
        >
          {{ one.title }}
        </div>
      </template>
    </DataList>
    <RowDialog :lot="lot" :row="editing" @close="editing = null" @settled="settled" />
  </template>
</template>

<style scoped>
.stacked {
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  gap: 12px;
}
.default,
.change {
  margin-right: 10px;
}
</style>
