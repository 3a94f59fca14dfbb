<script setup lang="ts">
import { ref, watch } from 'vue'

import ProblemAlert from './ProblemAlert.vue'
import { vFirst } from '../fields/first'

/** A dialog: what it is about, its fields in the slot, one button that says what follows. */
const {
  title,
  label,
  failure = null,
  busy = false,
  ready = true,
  width = 640,
} = defineProps<{
  title: string
  label: string
  failure?: unknown
  busy?: boolean
  ready?: boolean
  width?: number
}>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ save: [] }>()
/** What somebody filled in does not vanish by Escape, or by a click beside it. */
const touched = ref(false)
const asking = ref(false)
watch(open, () => {
  touched.value = false
  asking.value = false
})

function leave(event: Event) {
  // A list of choices is closed by Escape first, and lies beside the dialog.
  const choosing = '.v-menu, [aria-expanded=true], textarea[aria-controls]'
  if ((event.target as HTMLElement).closest(choosing)) return
  if (touched.value) asking.value = true
  else open.value = false
}
</script>

<template>
  <v-dialog
    v-model="open"
    :max-width="width"
    :aria-label="title"
    :persistent="touched"
    @click:outside="leave"
  >
    <v-card @input="touched = true" @keydown.capture.esc="touched && leave($event)">
      <v-card-title class="pt-4">{{ title }}</v-card-title>
      <v-card-text class="stack">
        <ProblemAlert :error="failure" />
        <slot />
      </v-card-text>
      <v-card-actions v-if="asking" role="alert">
        <span class="pl-3">What you filled in is not saved yet.</span>
        <v-spacer />
        <v-btn variant="text" @click="open = false">Close without saving</v-btn>
        <v-btn variant="outlined" color="primary" v-first @click="asking = false"
          >Go on filling in</v-btn
        >
      </v-card-actions>
      <v-card-actions v-else>
        <v-spacer />
        <slot name="more" />
        <v-btn variant="text" @click="open = false">Cancel</v-btn>
        <v-btn
          color="primary"
          variant="flat"
          :disabled="!ready"
          :loading="busy"
          @click="emit('save')"
        >
          {{ label }}
        </v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>
