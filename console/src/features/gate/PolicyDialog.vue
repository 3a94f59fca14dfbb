<script setup lang="ts">
import { ref, watch } from 'vue'

import EditDialog from '../../shared/dialogs/EditDialog.vue'
import Picker from '../../shared/fields/Picker.vue'
import FilterField from '../../shared/filters/FilterField.vue'
import type { Policy } from './facets'

/** What a policy is called, whom it holds, and why it is there. */
const { policy, isBaseline } = defineProps<{ policy: Policy; isBaseline: boolean }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ set: [policy: Policy] }>()

const name = ref('')
const note = ref('')
const groups = ref<string[]>([])
const people = ref<string[]>([])
const devices = ref('')
const until = ref('')
watch(
  () => [open.value, policy] as const,
  () => {
    name.value = policy.name
    note.value = policy.note ?? ''
    groups.value = [...(policy.groups ?? [])]
    people.value = [...(policy.people ?? [])]
    devices.value = policy.devices ?? ''
    until.value = policy.until ?? ''
  },
  { immediate: true },
)
function save() {
  const everyone = isBaseline
  emit('set', {
    ...policy,
    name: name.value.trim(),
    note: note.value.trim() || null,
    groups: everyone ? null : groups.value.length || !more() ? groups.value : null,
    people: people.value.length ? people.value : null,
    devices: devices.value.trim() || null,
    until: until.value || null,
  })
  open.value = false
}

/** Whether somebody else than groups is named. */
const more = () => people.value.length > 0 || devices.value.trim() !== ''
</script>

<template>
  <EditDialog
    v-model="open"
    :title="policy.name"
    label="Keep in the draft"
    :ready="name.trim() !== ''"
    @save="save"
  >
    <v-text-field v-model="name" label="Policy" />
    <v-text-field v-model="note" label="Note" placeholder="Why it is there" />
    <template v-if="!isBaseline">
      <p class="muted">It is for whoever is named by any of these:</p>
      <Picker v-model="groups" kind="group" label="People in these groups" multiple />
      <Picker v-model="people" kind="person" label="Single people" multiple />
      <FilterField v-model="devices" label="Devices, by what was declared of them" />
      <p class="muted">
        Such as <code>tags eq "gangway"</code>: for devices that nobody carries. Only what a lot, a
        list or a person declared counts here, never what a device says of itself.
      </p>
      <v-text-field
        v-model="until"
        label="Until and including (empty: without an end)"
        type="date"
        hint="After that day the policy counts no more, by itself."
        persistent-hint
      />
    </template>
  </EditDialog>
</template>
