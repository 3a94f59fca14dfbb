<script setup lang="ts">
import { mdiTrayArrowUp } from '@mdi/js'
import { computed, reactive, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { at } from '../../api/base'
import { api, got, type Schemas, sendFile } from '../../api/client'
import Picker from '../../shared/fields/Picker.vue'
import DataList from '../../shared/tables/DataList.vue'
import { number, onDay } from '../../shared/formats'
import JobBar from '../../shared/dialogs/JobBar.vue'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import { useJob } from '../../shared/actions/useJob'
import { useOrder } from '../../shared/tables/useOrder'
import { usePages } from '../../shared/tables/usePages'
import { useAction } from '../../shared/actions/useAction'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import { useSession } from '../../shared/actions/useSession'

const session = useSession()
const router = useRouter()
const route = useRoute()
const { state: long, follow } = useJob()
const query = ref(route.query.query ? String(route.query.query) : '')
const like = computed(() => (route.query.like ? String(route.query.like) : ''))
const order = useOrder({ key: 'id', descending: true })
const asked = computed(() => ({
  query: query.value || undefined,
  sort: (order.value?.key ?? 'id') as 'id',
  descending: order.value?.descending ?? true,
}))
const { items, error, isFetching, hasNextPage, fetchNextPage } = usePages<Schemas['Lot']>(
  () => ['lots', asked.value],
  (cursor) => got(api.GET('/api/v1/lots', { params: { query: { ...asked.value, cursor } } })),
)
const columns = [
  { key: 'id', title: 'Lot', number: true, sort: 'id' },
  { key: 'name', title: 'Name', sort: 'name' },
  { key: 'status', title: 'Status', sort: 'status' },
  { key: 'add', title: 'Add', number: true },
  { key: 'change', title: 'Change', number: true },
  { key: 'unchanged', title: 'Same', number: true },
  { key: 'conflict', title: 'Conflict', number: true },
  { key: 'reject', title: 'Reject', number: true },
  { key: 'created_at', title: 'Checked', sort: 'id' },
  { key: 'created_by', title: 'By', sort: 'created_by' },
]
const colours: Record<string, string> = {
  checking: 'info',
  draft: 'warning',
  applied: 'success',
  reverted: 'secondary',
  discarded: 'secondary',
}

const open = ref(like.value !== '')
const form = reactive({
  file: null as File | null,
  paste: '',
  addUnknown: null as boolean | null,
  name: '',
  overwrite: false,
  byHand: false,
})
const defaults = reactive({
  ownership: null as Schemas['Ownership'] | null,
  platform: null as Schemas['Platform'] | null,
  maker: '',
  model: '',
  order_name: '',
  supplier: '',
  site: '',
  purchased_on: '',
  warranty_until: '',
})
const { busy, failure, run } = useAction()
const { choices, words: wordsOf, jobBytes } = useVocabulary()
const dragging = ref(false)
const ready = computed(() => form.file !== null || form.paste.trim() !== '')

function drop(event: DragEvent) {
  dragging.value = false
  const file = event.dataTransfer?.files[0]
  if (file) {
    form.file = file
    open.value = true
  }
}

// A list that somebody typed speaks of devices that are here: a slip must not make one.
const usuallyAdds = computed(() => form.file !== null && !form.byHand)

const conditions = (): [string, string][] => {
  const asked: [string, string][] = []
  for (const [field, value] of Object.entries(defaults))
    if (value) asked.push(['default', `${field}=${value}`])
  if (form.name) asked.push(['name', form.name])
  if (form.overwrite) asked.push(['overwrite_manual', 'true'])
  if (form.file) asked.push(['file_name', form.file.name])
  if (form.byHand) asked.push(['by_hand', 'true'])
  asked.push(['add_unknown', String(form.addUnknown ?? usuallyAdds.value)])
  if (like.value) asked.push(['like', like.value])
  return asked
}

const check = () =>
  run(async () => {
    const large = (form.file?.size ?? form.paste.length) >= jobBytes.value
    const answer = await sendFile<Schemas['Lot'] | Schemas['LotTaken']>(
      '/lots',
      conditions(),
      form.file ?? form.paste,
      form.file ? 'application/octet-stream' : 'text/plain',
      large ? { Prefer: 'respond-async' } : {},
    )
    const [id, repeated] =
      'lot_id' in answer ? [answer.lot_id, answer.job === null] : [answer.id, answer.repeated]
    if ('lot_id' in answer && answer.job) await follow(answer.job)
    open.value = false
    await router.push(`/lots/${id}${repeated ? '?repeated=1' : ''}`)
  })
</script>

<template>
  <div class="page-head">
    <h1>Lots</h1>
    <v-text-field
      v-model="query"
      label="Find a lot: name, supplier, order"
      clearable
      class="find"
      @click:clear="query = ''"
    />
    <v-btn variant="text" to="/orders">Orders</v-btn>
    <v-menu>
      <template #activator="{ props }"
        ><v-btn variant="text" v-bind="props">Templates</v-btn></template
      >
      <v-list density="compact" role="group" aria-label="Templates to give to a supplier">
        <template v-for="{ value: platform } in wordsOf('platform')" :key="platform">
          <v-list-item
            v-for="form_ in ['xlsx', 'csv']"
            :key="form_"
            :href="at(`/api/v1/lot-templates/${platform}?form=${form_}`)"
            :title="`${platform}.${form_}`"
          />
        </template>
      </v-list>
    </v-menu>
    <v-btn
      v-if="session.may('import')"
      color="primary"
      :prepend-icon="mdiTrayArrowUp"
      @click="open = true"
      >Check a file or a paste</v-btn
    >
  </div>
  <div
    v-if="session.may('import')"
    class="drop mb-3 muted"
    :class="{ over: dragging }"
    @dragover.prevent="dragging = true"
    @dragleave="dragging = false"
    @drop.prevent="drop"
  >
    Drop a supplier's file here: a workbook (XLSX, ODS), CSV in any shape, JSON Lines. It is checked
    row by row; nothing changes until you apply it.
  </div>
  <DataList
    v-model:order="order"
    label="Lots"
    :columns="columns"
    :items="items"
    :row-key="(lot) => lot.id"
    :to="(lot) => `/lots/${lot.id}`"
    :loading="isFetching"
    :error="error"
    :more="hasNextPage"
    empty="No lots yet: drop a supplier's file above."
    @more="fetchNextPage()"
  >
    <template #id="{ item }"
      ><router-link :to="`/lots/${item.id}`">{{ item.id }}</router-link></template
    >
    <template #name="{ item }"
      ><router-link :to="`/lots/${item.id}`">{{ item.name }}</router-link></template
    >
    <template #status="{ item }"
      ><v-chip :color="colours[item.status]">{{ item.status }}</v-chip></template
    >
    <template
      v-for="verdict in ['add', 'change', 'unchanged', 'conflict', 'reject'] as const"
      :key="verdict"
      #[verdict]="{ item }"
    >
      <router-link v-if="item.counts[verdict]" :to="`/lots/${item.id}?verdict=${verdict}`">{{
        number(item.counts[verdict])
      }}</router-link>
      <span v-else class="muted">0</span>
    </template>
    <template #created_at="{ item }"
      ><span class="nowrap">{{ onDay(item.checked_at) }}</span></template
    >
  </DataList>

  <EditDialog
    v-model="open"
    title="Check a lot"
    label="Check it"
    :failure="failure"
    :busy="busy"
    :ready="ready"
    :width="720"
    @save="check"
  >
    <JobBar v-if="long.job" :job="long.job" />
    <v-alert v-if="like" type="info">Defaults and columns are taken from lot {{ like }}.</v-alert>
    <v-file-input
      v-model="form.file"
      label="Workbook or text file"
      :prepend-inner-icon="mdiTrayArrowUp"
    />
    <v-textarea
      v-if="!form.file"
      v-model="form.paste"
      label="…or paste serial numbers and IMEIs"
      rows="3"
      class="mono"
    />
    <v-text-field v-model="form.name" label="Name of the lot (else the file's name)" />
    <h2>If a cell is empty, use</h2>
    <div class="grid">
      <v-select
        v-model="defaults.ownership"
        :items="choices('ownership')"
        label="Ownership"
        clearable
      />
      <v-select
        v-model="defaults.platform"
        :items="choices('platform')"
        label="Platform"
        clearable
      />
      <Picker v-model="defaults.maker" kind="maker" label="Maker" />
      <Picker v-model="defaults.model" kind="model" label="Model" />
      <Picker v-model="defaults.order_name" kind="order" label="Order" />
      <Picker v-model="defaults.supplier" kind="supplier" label="Supplier" />
      <Picker v-model="defaults.site" kind="site" label="Site" />
      <v-text-field v-model="defaults.purchased_on" label="Purchased on" type="date" />
      <v-text-field v-model="defaults.warranty_until" label="Warranty until" type="date" />
    </div>
    <v-checkbox v-model="form.overwrite" label="Overwrite values that were set by hand" />
    <v-checkbox
      v-model="form.byHand"
      label="A declaration: state the ownership by hand, which a supplier's file cannot change"
    />
    <v-checkbox
      :model-value="form.addUnknown ?? usuallyAdds"
      label="Add devices that nobody knows yet (else such rows are rejected)"
      @update:model-value="form.addUnknown = Boolean($event)"
    />
  </EditDialog>
</template>

<style scoped>
.drop {
  border: 1.5px dashed rgba(var(--v-theme-primary), 0.55);
  border-radius: 8px;
  padding: 12px 16px;
}
.drop.over {
  background: rgba(var(--v-theme-primary), 0.12);
}
.find {
  max-width: 300px;
}
.grid {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(200px, 1fr));
  gap: 10px;
}
</style>
