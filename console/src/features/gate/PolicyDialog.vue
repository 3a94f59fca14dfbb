<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { ref, watch } from 'vue'

import { api, got } from '../../api/client'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
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
const typed = ref('')
watch(
  () => [open.value, policy] as const,
  () => {
    name.value = policy.name
    note.value = policy.note ?? ''
    groups.value = [...(policy.groups ?? [])]
    people.value = [...(policy.people ?? [])]
    devices.value = policy.devices ?? ''
  },
  { immediate: true },
)
const { data: known } = useQuery({
  queryKey: ['groups'],
  queryFn: () => got(api.GET('/api/v1/groups')),
})
const { data: found } = useQuery({
  queryKey: ['people of a policy', typed],
  queryFn: () =>
    got(api.GET('/api/v1/people', { params: { query: { query: typed.value, limit: 20 } } })),
  enabled: () => typed.value.length > 1,
})

function save() {
  const everyone = isBaseline
  emit('set', {
    ...policy,
    name: name.value.trim(),
    note: note.value.trim() || null,
    groups: everyone ? null : groups.value.length || !more() ? groups.value : null,
    people: people.value.length ? people.value : null,
    devices: devices.value.trim() || null,
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
    label="Take it over"
    :ready="name.trim() !== ''"
    @save="save"
  >
    <v-text-field v-model="name" label="Policy" />
    <v-text-field v-model="note" label="Note" placeholder="Why it is there" />
    <template v-if="!isBaseline">
      <p class="muted">It holds whoever is named by any of these:</p>
      <v-select
        v-model="groups"
        :items="(known ?? []).map((one) => one.name)"
        label="People in these groups"
        multiple
        chips
        closable-chips
      />
      <v-autocomplete
        v-model="people"
        v-model:search="typed"
        :items="
          (found?.items ?? []).map((one) => ({
            value: one.user_name,
            title: `${one.name} (${one.user_name})`,
          }))
        "
        label="Single people"
        placeholder="Type a name"
        density="compact"
        variant="outlined"
        no-filter
        multiple
        chips
        closable-chips
        hide-details="auto"
      />
      <FilterField v-model="devices" label="Devices, by what was declared of them" />
      <p class="muted">
        Such as <code>tags eq "gangway"</code>: for devices that nobody carries. Only what a lot, a
        list or a person declared counts here, never what a device says of itself.
      </p>
    </template>
  </EditDialog>
</template>
