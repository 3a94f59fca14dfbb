<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'

import { api, got, type Preview, type Schemas } from '../../api/client'
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
  queryFn: () => got(api.GET('/api/v1/setup-sheets')),
  enabled: () => session.may('prepare'),
})
const isHanded = (sheet: Schemas['SheetDetail']) =>
  sheet.given?.some((one) => one.cohort === `Chosen for ${sheet.name}`)
const reports = [
  { title: 'Missing', flag: 'missing' },
  { title: 'Stolen', flag: 'stolen' },
  { title: 'Found again', flag: null },
] as const
</script>

<template>
  <div v-if="session.may('manage-devices')">
    <div class="acts" role="group" :aria-label="`With ${label}`">
      <slot />
      <template v-if="!isRetired">
        <v-btn size="small" variant="tonal" color="primary" @click="giving = true"
          >Give to somebody</v-btn
        >
        <v-btn
          v-if="!isOne || person"
          size="small"
          variant="tonal"
          color="primary"
          @click="acts.give(selection, null, done)"
          >Take back</v-btn
        >
        <v-btn
          v-else-if="stage === 'parked'"
          size="small"
          variant="tonal"
          color="primary"
          @click="acts.give(selection, null, done)"
          >Use without a person</v-btn
        >
      </template>
      <v-menu>
        <template #activator="{ props }"
          ><v-btn size="small" variant="tonal" color="primary" v-bind="props">Declare as</v-btn>
        </template>
        <v-list density="compact"
          ><v-list-item
            v-for="one in choices('ownership')"
            :key="one.value"
            :title="one.title"
            @click="acts.declare(selection, one.value as Schemas['Ownership'], done)"
        /></v-list>
      </v-menu>
      <v-btn
        v-if="!isRetired"
        size="small"
        variant="tonal"
        color="primary"
        @click="hold.open({ selection }, label, done)"
        >Hold until</v-btn
      >
      <v-btn
        v-if="session.may('sort')"
        size="small"
        variant="tonal"
        color="primary"
        @click="listing = true"
        >Put in a list</v-btn
      >
      <v-btn
        v-if="!isRetired"
        size="small"
        variant="tonal"
        color="primary"
        @click="acts.name(selection, done)"
        >Name by template</v-btn
      >
      <v-menu v-if="sheets?.length">
        <template #activator="{ props }"
          ><v-btn size="small" variant="tonal" color="primary" v-bind="props">Setup sheet</v-btn>
        </template>
        <v-list density="compact"
          ><template v-for="one in sheets" :key="one.id"
            ><v-list-item
              :title="`Give ${one.name}`"
              @click="acts.hand(selection, one.name, false, done)" /><v-list-item
              v-if="isHanded(one)"
              :title="`Clear ${one.name}`"
              @click="acts.hand(selection, one.name, true, done)" /></template
        ></v-list>
      </v-menu>
      <v-menu>
        <template #activator="{ props }"
          ><v-btn size="small" variant="tonal" color="primary" v-bind="props">Report</v-btn>
        </template>
        <v-list density="compact"
          ><v-list-item
            v-for="one in reports"
            :key="one.title"
            :title="one.title"
            :disabled="isOne && one.flag === reported"
            @click="acts.report(selection, one.flag, done)"
        /></v-list>
      </v-menu>
      <v-btn
        v-if="!isRetired"
        size="small"
        variant="tonal"
        color="error"
        @click="acts.retire(selection, done)"
        >Retire</v-btn
      >
      <v-btn
        v-if="isOne ? isRetired : !inUse"
        size="small"
        variant="tonal"
        color="primary"
        @click="acts.bringBack(selection, done)"
        >Bring back</v-btn
      >
      <v-btn
        v-if="session.may('sweep') && (isOne ? isRetired : !inUse)"
        size="small"
        variant="text"
        color="error"
        @click="acts.erase(selection, erased ?? done)"
        >Erase</v-btn
      >
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
