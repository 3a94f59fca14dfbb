<script setup lang="ts">
import ProblemAlert from './ProblemAlert.vue'

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
</script>

<template>
  <v-dialog v-model="open" :max-width="width" :aria-label="title">
    <v-card>
      <v-card-title class="pt-4">{{ title }}</v-card-title>
      <v-card-text class="stack">
        <ProblemAlert :error="failure" />
        <slot />
      </v-card-text>
      <v-card-actions>
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
