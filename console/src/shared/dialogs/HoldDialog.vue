<script setup lang="ts">
import { computed, reactive, watch } from 'vue'

import { useHold } from '../actions/useHold'
import EditDialog from './EditDialog.vue'
import { vFirst } from '../fields/first'

const { state, close, look } = useHold()
const shown = computed({ get: () => state.held !== null, set: (open) => !open && close() })
const form = reactive({ from: '', until: '', reason: '', owner: '' })
watch(shown, (open) => open && Object.assign(form, { from: '', until: '', reason: '', owner: '' }))

function save() {
  look({
    reason: form.reason,
    until_on: form.until,
    from_on: form.from || null,
    owner: form.owner.trim() || null,
  })
}
</script>

<template>
  <EditDialog
    v-model="shown"
    :title="`Keep ${state.label} out of sweeps`"
    label="Preview the hold"
    :ready="!!form.until && !!form.reason.trim()"
    @save="save"
  >
    <div class="days">
      <v-text-field v-model="form.from" label="From (empty: today)" type="date" />
      <v-text-field v-model="form.until" label="Until and including" type="date" v-first />
    </div>
    <v-text-field v-model="form.reason" label="Reason" maxlength="500" />
    <v-text-field v-model="form.owner" label="Who answers for it (empty: you)" maxlength="500" />
  </EditDialog>
</template>

<style scoped>
.days {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(100%, 200px), 1fr));
  gap: 8px;
}
</style>
