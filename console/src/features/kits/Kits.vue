<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, listed, type Schemas } from '../../api/client'
import { useDocuments } from '../../shared/actions/useDocuments'
import { useSession } from '../../shared/actions/useSession'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import { plural } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import CatalogueList from './CatalogueList.vue'
import ChecklistDialog from './ChecklistDialog.vue'
import FileList from './FileList.vue'
import ItemDialog from './ItemDialog.vue'
import KitDialog from './KitDialog.vue'
import KitTrial from './KitTrial.vue'
import LintList from './LintList.vue'
import SheetDialog from './SheetDialog.vue'
import { givenTo, lasting, platforms } from './items'

const route = useRoute()
const router = useRouter()
const session = useSession()
const { label } = useVocabulary()
const tab = computed({
  get: () => String(route.query.tab ?? 'kits'),
  set: (value) => void router.push({ query: { tab: value } }),
})
const kits = useDocuments<Schemas['Kit'], Schemas['KitDetail']>('/api/v1/kits')
const items = useDocuments<Schemas['Item'], Schemas['ItemDetail']>('/api/v1/items')
const sheets = useDocuments<Schemas['SetupSheet'], Schemas['SheetDetail']>('/api/v1/setup-sheets')
const checklists = useDocuments<Schemas['Checklist'], Schemas['ChecklistDetail']>(
  '/api/v1/checklists',
)
const kitList = kits.useList()
const itemList = items.useList()
const sheetList = sheets.useList()
const checklistList = checklists.useList()
const { data: lints } = useQuery({
  queryKey: ['kit-lints'],
  queryFn: () => listed(api.GET('/api/v1/kit-lints')),
})

const { data: times } = useQuery({
  queryKey: ['item-times'],
  queryFn: () => listed(api.GET('/api/v1/item-times')),
})
const seconds = computed(() => {
  const names = new Map((itemList.data.value ?? []).map((one) => [one.id, one.name]))
  return new Map((times.value ?? []).map((one) => [names.get(one.item_id), one]))
})
/** How long each item usually takes, of what the fleet told. */
const usual = computed(
  () => new Map([...seconds.value].map(([name, one]) => [name, lasting(one.median_seconds)])),
)
/** The item that takes longest on most devices, where one does. */
function slowest(checklist: Schemas['ChecklistDetail']): string | null {
  const slow = (name: string) => seconds.value.get(name)?.p95_seconds ?? 0
  const [first, second] = [...checklist.in_order].sort((one, other) => slow(other) - slow(one))
  return first && second && slow(first) > slow(second) && slow(second) > 0 ? first : null
}

const kitColumns = [
  { key: 'name', title: 'Kit' },
  { key: 'position', title: 'Position', number: true },
  { key: 'items', title: 'Items' },
  { key: 'given', title: 'Given' },
  { key: 'act', title: '' },
]
const itemColumns = [
  { key: 'name', title: 'Item' },
  { key: 'kind', title: 'Kind' },
  { key: 'says', title: 'What' },
  { key: 'platforms', title: 'Platforms' },
  { key: 'version', title: 'Version' },
  { key: 'act', title: '' },
]
const sheetColumns = [
  { key: 'name', title: 'Setup sheet' },
  { key: 'position', title: 'Position', number: true },
  { key: 'reach', title: 'Looked after' },
  { key: 'takes_away', title: 'What it takes away' },
  { key: 'given', title: 'Given' },
  { key: 'act', title: '' },
]
const checklistColumns = [
  { key: 'name', title: 'Checklist' },
  { key: 'in_order', title: 'Items in order' },
  { key: 'limit', title: 'Waits' },
  { key: 'given', title: 'Given' },
  { key: 'act', title: '' },
]
const kit = ref<Schemas['KitDetail'] | null>(null)
const item = ref<Schemas['ItemDetail'] | null>(null)
const sheet = ref<Schemas['SheetDetail'] | null>(null)
const checklist = ref<Schemas['ChecklistDetail'] | null>(null)
const setting = ref<Schemas['CatalogueSetting'] | null>(null)
const open = ref<'kit' | 'item' | 'sheet' | 'checklist' | null>(null)
const isOpen = (what: typeof open.value) =>
  computed({ get: () => open.value === what, set: (is) => (open.value = is ? what : null) })
const kitOpen = isOpen('kit')
const itemOpen = isOpen('item')
const sheetOpen = isOpen('sheet')
const checklistOpen = isOpen('checklist')

function editKit(one: Schemas['KitDetail'] | null) {
  kit.value = one
  open.value = 'kit'
}
function editItem(
  one: Schemas['ItemDetail'] | null,
  of: Schemas['CatalogueSetting'] | null = null,
) {
  item.value = one
  setting.value = of
  open.value = 'item'
}
function editSheet(one: Schemas['SheetDetail'] | null) {
  sheet.value = one
  open.value = 'sheet'
}
function editChecklist(one: Schemas['ChecklistDetail'] | null) {
  checklist.value = one
  open.value = 'checklist'
}

/** On the first tab all that is odd, on the others what is odd there. */
const OF_TAB: Record<string, Schemas['Giving']> = {
  items: 'item',
  sheets: 'sheet',
  checklists: 'checklist',
}
const shown = computed(() =>
  (lints.value ?? []).filter((one) => tab.value === 'kits' || one.kind === OF_TAB[tab.value]),
)
</script>

<template>
  <div class="page-head">
    <h1>Kits</h1>
    <template v-if="session.may('prepare')">
      <v-btn v-if="tab === 'kits'" color="primary" :prepend-icon="mdiPlus" @click="editKit(null)"
        >Make a kit</v-btn
      >
      <v-btn v-if="tab === 'items'" color="primary" :prepend-icon="mdiPlus" @click="editItem(null)"
        >Make an item</v-btn
      >
      <v-btn
        v-if="tab === 'sheets'"
        color="primary"
        :prepend-icon="mdiPlus"
        @click="editSheet(null)"
        >Make a setup sheet</v-btn
      >
      <v-btn
        v-if="tab === 'checklists'"
        color="primary"
        :prepend-icon="mdiPlus"
        @click="editChecklist(null)"
        >Make a checklist</v-btn
      >
    </template>
  </div>
  <LintList :lints="shown" class="mb-3" />
  <v-tabs v-model="tab" class="mb-3">
    <v-tab value="kits">Kits</v-tab>
    <v-tab value="items">Items</v-tab>
    <v-tab value="settings">What can be set</v-tab>
    <v-tab value="files">Files</v-tab>
    <v-tab value="sheets">Setup sheets</v-tab>
    <v-tab value="checklists">Checklists</v-tab>
    <v-tab value="trial">Who gets what</v-tab>
  </v-tabs>
  <DataList
    v-if="tab === 'kits'"
    label="Kits"
    :columns="kitColumns"
    :items="kitList.data.value ?? []"
    :row-key="(one) => one.id"
    :loading="kitList.isFetching.value"
    :error="kitList.error.value"
    empty="No kits yet. A kit is a set of items that a cohort’s devices get."
  >
    <template #name="{ item: one }"
      ><strong>{{ one.name }}</strong>
      <div v-if="one.note" class="muted">{{ one.note }}</div></template
    >
    <template #items="{ item: one }">{{ (one.items ?? []).join(', ') || 'none yet' }}</template>
    <template #given="{ item: one }"
      >{{ givenTo(one.given)
      }}<span v-if="!one.given?.length" class="tone-warn">to nobody yet</span></template
    >
    <template #act="{ item: one }"
      ><span v-if="session.may('prepare')" class="nowrap"
        ><v-btn size="small" variant="text" color="primary" @click="editKit(one)">Change</v-btn
        ><v-btn size="small" variant="text" @click="kits.remove(one)">Remove</v-btn></span
      ></template
    >
  </DataList>
  <DataList
    v-if="tab === 'items'"
    label="Items"
    :columns="itemColumns"
    :items="itemList.data.value ?? []"
    :row-key="(one) => one.id"
    :loading="itemList.isFetching.value"
    :error="itemList.error.value"
    empty="No items yet. Find a setting under “What can be set”, or make one of another kind."
  >
    <template #name="{ item: one }"
      ><router-link :to="`/items/${one.id}`"
        ><strong>{{ one.name }}</strong></router-link
      >
      <div v-if="one.given?.length" class="muted">{{ givenTo(one.given) }}</div></template
    >
    <template #kind="{ item: one }">{{ label('item_kind', one.payload.kind) }}</template>
    <template #platforms="{ item: one }">{{
      platforms(one.for_platforms, (name) => label('platform', name))
    }}</template>
    <template #act="{ item: one }"
      ><span v-if="session.may('prepare')" class="nowrap"
        ><v-btn size="small" variant="text" color="primary" @click="editItem(one)">Change</v-btn
        ><v-btn size="small" variant="text" @click="items.remove(one)">Remove</v-btn></span
      ></template
    >
  </DataList>
  <FileList v-if="tab === 'files'" />
  <CatalogueList v-if="tab === 'settings'" @make="(found) => editItem(null, found)" />
  <DataList
    v-if="tab === 'sheets'"
    label="Setup sheets"
    :columns="sheetColumns"
    :items="sheetList.data.value ?? []"
    :row-key="(one) => one.id"
    :loading="sheetList.isFetching.value"
    :error="sheetList.error.value"
    empty="No setup sheets yet. A sheet holds the choices of a device’s first start."
  >
    <template #name="{ item: one }"
      ><strong>{{ one.name }}</strong>
      <div v-if="one.note" class="muted">{{ one.note }}</div></template
    >
    <template #reach="{ item: one }">{{ label('reach', one.reach) }}</template>
    <template #takes_away="{ item: one }"
      ><div v-for="sentence in one.takes_away" :key="sentence">{{ sentence }}</div>
      <template v-if="!one.takes_away.length">–</template></template
    >
    <template #given="{ item: one }">{{ givenTo(one.given) || 'to nobody yet' }}</template>
    <template #act="{ item: one }"
      ><span v-if="session.may('prepare')" class="nowrap"
        ><v-btn size="small" variant="text" color="primary" @click="editSheet(one)">Change</v-btn
        ><v-btn size="small" variant="text" @click="sheets.remove(one)">Remove</v-btn></span
      ></template
    >
  </DataList>
  <DataList
    v-if="tab === 'checklists'"
    label="Checklists"
    :columns="checklistColumns"
    :items="checklistList.data.value ?? []"
    :row-key="(one) => one.id"
    :loading="checklistList.isFetching.value"
    :error="checklistList.error.value"
    empty="No checklists yet. A checklist says what must be done before a device is handed over."
  >
    <template #name="{ item: one }"
      ><strong>{{ one.name }}</strong>
      <div v-if="one.note" class="muted">{{ one.note }}</div></template
    >
    <template #in_order="{ item: one }"
      ><span v-for="(name, at) in one.in_order" :key="name"
        >{{ at ? ', ' : '' }}{{ at + 1 }}. {{ name
        }}<span v-if="usual.get(name)" class="muted"> ({{ usual.get(name) }})</span></span
      >
      <div v-if="slowest(one)" class="muted">
        “{{ slowest(one) }}” holds devices up longest.
      </div></template
    >
    <template #limit="{ item: one }"
      >{{ plural(one.limit_minutes ?? 0, 'minute') }}, then
      {{ label('expiry', one.on_expiry) }}</template
    >
    <template #given="{ item: one }">{{ givenTo(one.given) || 'to nobody yet' }}</template>
    <template #act="{ item: one }"
      ><span v-if="session.may('prepare')" class="nowrap"
        ><v-btn size="small" variant="text" color="primary" @click="editChecklist(one)"
          >Change</v-btn
        ><v-btn size="small" variant="text" @click="checklists.remove(one)">Remove</v-btn></span
      ></template
    >
  </DataList>
  <KitTrial v-if="tab === 'trial'" />
  <KitDialog v-model="kitOpen" :kit="kit" />
  <ItemDialog v-model="itemOpen" :item="item" :setting="setting" />
  <SheetDialog v-model="sheetOpen" :sheet="sheet" />
  <ChecklistDialog v-model="checklistOpen" :checklist="checklist" />
</template>
