<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import { usePreview } from '../../shared/actions/usePreview'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import Picker from '../../shared/fields/Picker.vue'
import { called } from '../../shared/formats'

/** Somebody leaves: what becomes of each of their devices, and of what else is theirs. */
const { person } = defineProps<{ person: Schemas['PersonDetail'] }>()
const open = defineModel<boolean>({ required: true })
const preview = usePreview()
const { choices } = useVocabulary()
type Act = Schemas['Parting'] | 'stay'
interface Choice {
  act: Act
  whom: string
}
const STAY = { title: 'stays theirs for now', value: 'stay' }
const acts = computed(() => [...choices('parting'), STAY])
const theirs = computed(() => person.devices.filter((one) => one.stage !== 'retired'))
const decided = reactive<Record<number, Choice>>({})
const all = ref<Choice>({ act: 'take', whom: '' })
const passes = ref(true)
const holds = ref(true)
/** What is somebody's own goes with them; the others come back. */
const usual = (device: Schemas['Device']): Act =>
  device.ownership === 'personal' ? 'retire' : 'take'
watch(
  open,
  () => {
    for (const one of theirs.value) decided[one.id] = { act: usual(one), whom: '' }
    all.value = { act: 'take', whom: '' }
    passes.value = holds.value = true
  },
  { immediate: true },
)

function forAll() {
  for (const one of theirs.value) decided[one.id] = { ...all.value }
}
const ready = computed(() =>
  theirs.value.every((one) => decided[one.id]?.act !== 'give' || decided[one.id]?.whom),
)

/** Devices with the same fate together. */
function departure() {
  const found = new Map<string, Schemas['PartingOf']>()
  for (const one of theirs.value) {
    const { act, whom } = decided[one.id] ?? { act: 'stay' as Act, whom: '' }
    if (act === 'stay') continue
    const key = `${act} ${act === 'give' ? whom : ''}`
    const before = found.get(key) ?? { ids: [], act, person: act === 'give' ? whom : null }
    found.set(key, { ...before, ids: [...before.ids, one.id] })
  }
  return { devices: [...found.values()], passes: passes.value, holds: holds.value }
}

function look() {
  const params = { path: { person: String(person.id) } }
  const body = departure()
  open.value = false
  void preview.open({
    look: () => got(api.POST('/api/v1/people/{person}/departure/preview', { params, body })),
    act: (digest, reason) =>
      got(
        api.POST('/api/v1/people/{person}/departure/apply', {
          params,
          body: { ...body, digest, reason },
        }),
      ),
  })
}
</script>

<template>
  <EditDialog
    v-model="open"
    :title="`${person.name} leaves`"
    label="Preview"
    :ready="ready"
    :width="780"
    @save="look"
  >
    <p v-if="!theirs.length" class="muted">They have no device in use.</p>
    <div v-if="theirs.length > 1" class="line all">
      <strong>All {{ theirs.length }} devices</strong>
      <v-select v-model="all.act" :items="acts" label="All are" @update:model-value="forAll" />
      <Picker
        v-if="all.act === 'give'"
        v-model="all.whom"
        kind="person"
        label="Who gets all"
        @update:model-value="forAll"
      />
    </div>
    <div v-for="one in theirs" :key="one.id" class="line">
      <span
        >{{ called(one) }}
        <span class="muted">{{ one.maker }} {{ one.model }}, {{ one.ownership }}</span></span
      >
      <template v-if="decided[one.id]">
        <v-select
          v-model="decided[one.id]!.act"
          :items="acts"
          :label="`What becomes of ${called(one)}`"
        />
        <Picker
          v-if="decided[one.id]!.act === 'give'"
          v-model="decided[one.id]!.whom"
          kind="person"
          :label="`Who gets ${called(one)}`"
        />
      </template>
    </div>
    <v-checkbox v-model="passes" label="Revoke the passes that were made for them" />
    <v-checkbox v-model="holds" label="End the holds on all of their devices" />
  </EditDialog>
</template>

<style scoped>
.line {
  display: grid;
  grid-template-columns: minmax(0, 1.2fr) minmax(0, 1fr) minmax(0, 1fr);
  gap: 8px;
  align-items: center;
}
.all {
  padding-bottom: 10px;
  border-bottom: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
}
.line > :nth-child(2):last-child {
  grid-column: span 2;
}
@media (max-width: 600px) {
  .line > :nth-child(2):last-child {
    grid-column: auto;
  }
  .line {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
