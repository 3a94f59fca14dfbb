<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'

import { api, listed, type Schemas } from '../../api/client'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import { type Line, type Policy, said, type Value, valueOf } from './facets'

/** One cell: what a policy says to a question, or that it says nothing. */
const { line, policy, baseline } = defineProps<{
  line: Line
  policy: Policy
  /** The last policy; null where this one is it. */
  baseline: Policy | null
}>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ set: [value: Value | null] }>()
const { choices, label } = useVocabulary()
const { data: terms } = useQuery({
  queryKey: ['terms'],
  queryFn: () => listed(api.GET('/api/v1/terms')),
})

const word = ref<boolean | string | null>(null)
const several = ref<string[] | null>(null)
const oldest = ref('')
const newest = ref('')
const names = ref<string[]>([])
const how = ref<Schemas['Listed']>('only')
const devices = ref('')
const counted = ref<Schemas['Ownership'][]>([])

watch(
  () => [open.value, line, policy] as const,
  () => {
    const value = valueOf(policy, line)
    several.value = Array.isArray(value) ? [...value] : line.facet === 'terms' ? [] : null
    word.value = typeof value === 'object' ? null : value
    const bounds = line.facet === 'versions' ? (value as Schemas['VersionBounds'] | null) : null
    oldest.value = bounds?.oldest ?? ''
    newest.value = bounds?.newest ?? ''
    const isList = line.facet === 'makers' || line.facet === 'models'
    const listing = isList ? (value as Schemas['Listing'] | null) : null
    names.value = [...(listing?.names ?? [])]
    how.value = listing?.listed ?? 'only'
    const quota = line.facet === 'quota' ? (value as Schemas['Quota'] | null) : null
    devices.value = quota ? String(quota.devices) : ''
    counted.value = [...(quota?.ownerships ?? [])]
  },
  { immediate: true },
)

const title = computed(() => {
  const whose = line.platform ? label('platform', line.platform) : 'all platforms'
  return `${policy.name}: ${label('facet', line.facet)}, ${whose}`
})
const stands = computed(() => {
  const value = baseline ? valueOf(baseline, line) : null
  return value === null ? 'not stated there' : said(line, value, label)
})
const asBaseline = computed(() => (baseline ? valueOf(baseline, line) : null))
const ready = computed(() => {
  if (line.facet === 'quota') return /^\d+$/.test(devices.value)
  if (line.facet === 'makers' || line.facet === 'models') return names.value.length > 0
  if (line.facet === 'ownerships' || line.facet === 'terms') return several.value !== null
  return line.facet === 'versions' || word.value !== null
})

function put(value: Value | null) {
  emit('set', value)
  open.value = false
}

function save() {
  if (line.facet === 'versions')
    put({ oldest: oldest.value.trim() || null, newest: newest.value.trim() || null })
  else if (line.facet === 'makers' || line.facet === 'models')
    put({ listed: how.value, names: names.value })
  else if (line.facet === 'quota')
    put({ devices: Number(devices.value), ownerships: counted.value.length ? counted.value : null })
  else put(several.value ?? word.value)
}

const yesAndNo = computed(() =>
  line.facet === 'door'
    ? [
        { title: 'open', value: true },
        { title: 'closed', value: false },
      ]
    : [
        { title: 'may come in', value: false },
        { title: 'are refused', value: true },
      ],
)
</script>

<template>
  <EditDialog
    v-model="open"
    :title="title"
    label="State it"
    :ready="ready"
    :width="520"
    @save="save"
  >
    <template v-if="line.facet === 'versions'">
      <div class="pair">
        <v-text-field v-model="oldest" label="From" placeholder="any" persistent-placeholder />
        <v-text-field v-model="newest" label="Up to" placeholder="any" persistent-placeholder />
      </div>
      <p class="muted">
        A bound compares as many parts as it states: up to 13 lets in 13.9, up to 13.0 does not let
        in 13.1. Both empty: any version.
      </p>
    </template>
    <template v-else-if="line.facet === 'makers' || line.facet === 'models'">
      <v-select v-model="how" :items="choices('listed')" label="Let in" />
      <v-combobox
        v-model="names"
        :label="line.facet === 'makers' ? 'Makers' : 'Models'"
        multiple
        chips
        closable-chips
        hint="Type one and press Enter. Case, blanks and punctuation do not matter."
        persistent-hint
      />
    </template>
    <template v-else-if="line.facet === 'quota'">
      <v-text-field v-model="devices" label="Devices per person" type="number" min="1" max="50" />
      <v-select
        v-model="counted"
        :items="choices('ownership')"
        label="Which count"
        placeholder="all of them"
        persistent-placeholder
        multiple
        clearable
      />
      <p v-if="line.platform" class="muted">
        It counts devices of this platform, and holds beside the quota for all platforms.
      </p>
    </template>
    <v-select
      v-else-if="line.facet === 'ownerships'"
      v-model="several"
      :items="choices('ownership').filter((one) => one.value !== 'unknown')"
      label="Let in"
      multiple
    />
    <template v-else-if="line.facet === 'terms'">
      <v-select
        v-model="several"
        :items="(terms ?? []).map((one) => one.name)"
        label="Must be accepted"
        placeholder="none"
        persistent-placeholder
        multiple
      />
      <p class="muted">Terms are written under Arrivals, “Terms and welcome”.</p>
    </template>
    <v-select
      v-else-if="line.facet === 'sign_in'"
      v-model="word"
      :items="choices('sign_in_way')"
      label="The person signs in with"
    />
    <v-select
      v-else-if="line.facet === 'returning'"
      v-model="word"
      :items="choices('returning')"
      label="Retired devices that come back are"
    />
    <v-radio-group v-else v-model="word" hide-details :aria-label="title">
      <v-radio
        v-for="choice in yesAndNo"
        :key="choice.title"
        :label="choice.title"
        :value="choice.value"
      />
    </v-radio-group>
    <p v-if="baseline" class="muted">Baseline: {{ stands }}.</p>
    <template #more>
      <v-btn
        v-if="baseline && asBaseline !== null"
        variant="text"
        @click="put(JSON.parse(JSON.stringify(asBaseline)))"
      >
        As the baseline
      </v-btn>
      <v-btn v-if="valueOf(policy, line) !== null" variant="text" @click="put(null)">
        State nothing
      </v-btn>
    </template>
  </EditDialog>
</template>

<style scoped>
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 10px;
}
</style>
