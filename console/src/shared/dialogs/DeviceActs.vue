<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'

import { api, got, listed, type Preview, type Schemas } from '../../api/client'
import { useAction } from '../actions/useAction'
import { type Selection, useDeviceActs } from '../actions/useDeviceActs'
import { useHold } from '../actions/useHold'
import { useSession } from '../actions/useSession'
import { useVocabulary } from '../actions/useVocabulary'
import Picker from '../fields/Picker.vue'
import EditDialog from './EditDialog.vue'

/** What can be done with devices, wherever they are seen: one, marked ones, or all that fit. */
const {
  selection,
  label,
  done = undefined,
  erased = undefined,
  stage = null,
  reported = null,
  person = null,
  inUse = false,
} = defineProps<{
  selection: Selection
  /** What they are called in a sentence: “these 12 devices”. */
  label: string
  done?: () => void
  /** Nothing is left of them. */
  erased?: () => void
  /** Of one device, what it is now: what makes no sense is not offered. */
  stage?: Schemas['Stage'] | null
  reported?: string | null
  person?: string | null
  /** None of them is retired. */
  inUse?: boolean
}>()
const session = useSession()
const acts = useDeviceActs()
const hold = useHold()
const { choices } = useVocabulary()
const isOne = computed(() => stage !== null)
const isRetired = computed(() => stage === 'retired')

const giving = ref(false)
const whom = ref('')
watch(giving, () => (whom.value = ''))
function give() {
  giving.value = false
  acts.give(selection, whom.value, done)
}

const listing = ref(false)
const list = ref('')
const fresh = ref('')
const { busy, failure, run } = useAction()
watch(listing, () => (list.value = fresh.value = ''))
async function putIn() {
  let key = list.value
  if (fresh.value.trim()) {
    const cohort = { name: fresh.value.trim(), filter: null, note: null }
    const well = await run(async () => {
      const shown: Preview = await got(api.POST('/api/v1/cohorts/preview', { body: cohort }))
      const body = { ...cohort, digest: shown.digest }
      key = String((await got(api.POST('/api/v1/cohorts', { body }))).id)
    })
    if (!well) return
  }
  listing.value = false
  acts.put(selection, key, true, done)
}

const { data: sheets } = useQuery({
  queryKey: ['/api/v1/setup-sheets'],
  queryFn: () => listed(api.GET('/api/v1/setup-sheets')),
  enabled: () => session.may('prepare'),
})
const isHanded = (sheet: Schemas['SheetDetail']) =>
  sheet.given?.some((one) => one.cohort === `Chosen for ${sheet.name}`)
interface Act {
  title: string
  act: () => void
  /** Whether it makes sense for these devices. */
  shown?: boolean
  tone?: 'primary' | 'error'
}
interface Menu {
  title: string
  choices: (Act & { off?: boolean })[]
}
const REPORTS = [
  { title: 'Missing', flag: 'missing' },
  { title: 'Stolen', flag: 'stolen' },
  { title: 'Found again', flag: null },
] as const
const takeBack = () => acts.give(selection, null, done)
const comeBack = computed(() => (isOne.value ? isRetired.value : !inUse))
const isFree = computed(() => isOne.value && !person && stage === 'parked')
const offered = computed<(Act | Menu)[]>(() => [
  { title: 'Give to somebody', act: () => (giving.value = true), shown: !isRetired.value },
  {
    title: 'Take back',
    act: takeBack,
    shown: !isRetired.value && (!isOne.value || !!person),
  },
  { title: 'Use without a person', act: takeBack, shown: isFree.value },
  {
    title: 'Declare as',
    choices: choices('ownership').map(({ title, value }) => ({
      title,
      act: () => acts.declare(selection, value as Schemas['Ownership'], done),
    })),
  },
  {
    title: 'Hold until',
    act: () => hold.open({ selection }, label, done),
    shown: !isRetired.value,
  },
  { title: 'Put in a list', act: () => (listing.value = true), shown: session.may('sort') },
  {
    title: 'Name by template',
    act: () => acts.name(selection, done),
    shown: !isRetired.value,
  },
  {
    title: 'Setup sheet',
    choices: (sheets.value ?? []).flatMap((one) => [
      { title: `Give ${one.name}`, act: () => acts.hand(selection, one.name, false, done) },
      {
        title: `Clear ${one.name}`,
        act: () => acts.hand(selection, one.name, true, done),
        shown: isHanded(one),
      },
    ]),
  },
  {
    title: 'Report',
    choices: REPORTS.map(({ title, flag }) => ({
      title,
      act: () => acts.report(selection, flag, done),
      off: isOne.value && flag === reported,
    })),
  },
  {
    title: 'Retire',
    act: () => acts.retire(selection, done),
    shown: !isRetired.value,
    tone: 'error',
  },
  { title: 'Bring back', act: () => acts.bringBack(selection, done), shown: comeBack.value },
  {
    title: 'Erase',
    act: () => acts.erase(selection, erased ?? done),
    shown: comeBack.value && session.may('sweep'),
    tone: 'error',
  },
])
const here = computed(() =>
  offered.value.filter((one) => ('choices' in one ? one.choices.length : one.shown)),
)
</script>

<template>
  <div v-if="session.may('manage-devices')">
    <div class="acts" role="group" :aria-label="`With ${label}`">
      <slot />
      <template v-for="one in here" :key="one.title">
        <v-menu v-if="'choices' in one">
          <template #activator="{ props }"
            ><v-btn size="small" variant="tonal" color="primary" v-bind="props">{{
              one.title
            }}</v-btn></template
          >
          <v-list density="compact"
            ><template v-for="choice in one.choices" :key="choice.title"
              ><v-list-item
                v-if="choice.shown !== false"
                :title="choice.title"
                :disabled="choice.off"
                @click="choice.act" /></template
          ></v-list>
        </v-menu>
        <v-btn
          v-else
          size="small"
          variant="tonal"
          :color="one.tone ?? 'primary'"
          @click="one.act"
          >{{ one.title }}</v-btn
        >
      </template>
      <slot name="after" />
    </div>
    <EditDialog
      v-model="giving"
      :title="`Give ${label} to somebody`"
      label="Preview"
      :ready="!!whom"
      :width="460"
      @save="give"
    >
      <Picker v-model="whom" kind="person" label="To whom" />
    </EditDialog>
    <EditDialog
      v-model="listing"
      :title="`Put ${label} in a list`"
      label="Preview"
      :ready="!!list || !!fresh.trim()"
      :failure="failure"
      :busy="busy"
      :width="460"
      @save="putIn"
    >
      <Picker v-if="!fresh.trim()" v-model="list" kind="list" label="List" />
      <v-text-field v-if="!list" v-model="fresh" label="Or a new list, called" />
    </EditDialog>
  </div>
</template>

<style scoped>
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  align-items: center;
}
</style>
