<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { type Schemas, sendFile } from '../../api/client'
import { useAction } from '../../shared/actions/useAction'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import { plural } from '../../shared/formats'
import { vFirst } from '../../shared/fields/first'

/** Devices from a list: pasted as it is, with columns or without, or a file. */
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ found: [ids: number[]] }>()
const paste = ref('')
const file = ref<File | null>(null)
const found = ref<Schemas['FoundDevices'] | null>(null)
const { busy, failure, run, forget } = useAction()
watch(open, () => {
  paste.value = ''
  file.value = found.value = null
  forget()
})
watch([paste, file], () => (found.value = null))
const strange = computed(() => [
  ...(found.value?.unknown ?? []).map((one) => ({ ...one, why: 'no device here' })),
  ...(found.value?.several ?? []).map((one) => ({ ...one, why: 'fits several devices' })),
])
const ready = computed(() =>
  found.value ? found.value.ids.length > 0 : file.value !== null || paste.value.trim() !== '',
)
const label = computed(() =>
  found.value ? `Go on with ${plural(found.value.ids.length, 'device')}` : 'Find them',
)

async function save() {
  if (found.value) {
    emit('found', found.value.ids)
    open.value = false
    return
  }
  const asked: [string, string][] = file.value ? [] : [['pasted', 'true']]
  await run(async () => {
    const media = file.value ? 'application/octet-stream' : 'text/plain'
    const answer = await sendFile<Schemas['FoundDevices']>(
      '/devices/find',
      asked,
      file.value ?? paste.value,
      media,
    )
    found.value = answer
    // A list that is wholly known asks for no second look.
    if (!strange.value.length && answer.ids.length) await save()
  }, false)
}
</script>

<template>
  <EditDialog
    v-model="open"
    title="Devices from a list"
    :label="label"
    :failure="failure"
    :busy="busy"
    :ready="ready"
    @save="save"
  >
    <p class="muted">
      Serial numbers, IMEIs, asset tags or names; columns copied out of a spreadsheet are
      understood. Nothing is changed yet, and no device is made.
    </p>
    <v-textarea v-if="!file" v-model="paste" label="Paste the list" rows="5" class="mono" v-first />
    <v-file-input v-if="!paste.trim()" v-model="file" label="Or a file (CSV, XLSX, ODS)" />
    <template v-if="found">
      <p aria-live="polite">
        <strong>{{ plural(found.ids.length, 'device') }}</strong> of
        {{ plural(found.rows, 'row') }} found.
      </p>
      <div v-if="strange.length" role="alert">
        <strong class="tone-warn">{{ plural(strange.length, 'row') }} left out:</strong>
        <ul>
          <li v-for="one in strange.slice(0, 20)" :key="one.row">
            row {{ one.row }}: <span class="mono">{{ one.text }}</span>, {{ one.why }}
          </li>
        </ul>
        <p v-if="strange.length > 20" class="muted">and {{ strange.length - 20 }} more</p>
      </div>
    </template>
  </EditDialog>
</template>

<style scoped>
ul {
  padding-left: 18px;
}
</style>
