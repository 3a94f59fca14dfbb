<script setup lang="ts">
import { mdiUpload } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { computed, onBeforeUnmount, ref } from 'vue'

import { api, listed, putFile, type Schemas } from '../../api/client'
import { readAgain } from '../../api/queries'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { sized } from '../../shared/formats'

/** One of the files that are kept here, or a new one (`fresh`: only that), by its digest. */
const { fresh = false } = defineProps<{ fresh?: boolean }>()
const digest = defineModel<string>({ required: true })
const emit = defineEmits<{ chosen: [file: Schemas['KeptFile']] }>()
const { data } = useQuery({
  queryKey: ['files'],
  queryFn: () => listed(api.GET('/api/v1/files')),
})
const choices = computed(() =>
  (data.value ?? []).map((one) => ({
    value: one.digest,
    title: `${one.name} · ${sized(one.size)} · ${one.digest.slice(0, 8)}`,
  })),
)
const input = ref<HTMLInputElement | null>(null)
const part = ref<number | null>(null)
const failure = ref<unknown>(null)
let stop = new AbortController()
onBeforeUnmount(() => stop.abort())

function choose(one: string | null) {
  digest.value = one ?? ''
  const file = data.value?.find((each) => each.digest === one)
  if (file) emit('chosen', file)
}

async function put(files: FileList | null) {
  const [file] = files ?? []
  if (!file) return
  failure.value = null
  part.value = 0
  stop = new AbortController()
  try {
    const kept = await putFile(file, (sent) => (part.value = sent), stop.signal)
    await readAgain(['files'])
    digest.value = kept.digest
    emit('chosen', kept)
  } catch (problem) {
    if (!(problem instanceof DOMException)) failure.value = problem
  } finally {
    part.value = null
    if (input.value) input.value.value = ''
  }
}
</script>

<template>
  <ProblemAlert :error="failure" />
  <div class="row-gap" @dragover.prevent @drop.prevent="put($event.dataTransfer?.files ?? null)">
    <v-autocomplete
      v-if="!fresh"
      :model-value="digest || null"
      :items="choices"
      label="File that is kept here"
      placeholder="Choose one, or put one in"
      no-data-text="No file is kept here yet."
      clearable
      hide-details
      @update:model-value="choose"
    />
    <v-btn
      variant="tonal"
      :prepend-icon="mdiUpload"
      :disabled="part !== null"
      @click="input?.click()"
      >Put in a file</v-btn
    >
    <input
      ref="input"
      type="file"
      hidden
      aria-label="File to put in"
      @change="put(($event.target as HTMLInputElement).files)"
    />
  </div>
  <div v-if="part !== null" class="row-gap" role="status">
    <v-progress-linear :model-value="100 * part" color="primary" rounded aria-label="Sent" />
    <span class="nowrap">{{ part < 1 ? `${Math.floor(100 * part)} % sent` : 'Checked …' }}</span>
    <v-btn size="small" variant="text" @click="stop.abort()">Stop</v-btn>
  </div>
</template>
