<script setup lang="ts">
import { computed } from 'vue'
import { useRouter } from 'vue-router'

import { usePreview } from '../actions/usePreview'
import { useSession } from '../actions/useSession'
import { useTrail } from '../actions/useTrail'
import { useVocabulary } from '../actions/useVocabulary'

/** What was just done, with its way back, for a while. */
const { state, forget, takeBack } = useTrail()
const session = useSession()
const router = useRouter()
const { final } = useVocabulary()
const { state: looking } = usePreview()
const isSaid = computed(
  () => state.entry !== null && looking.change === null && final(state.operation) === null,
)
const shown = computed({ get: () => isSaid.value, set: (open) => !open && forget() })
const canGoBack = computed(() => session.may('revert') && !state.operation.endsWith('.revert'))

function look() {
  void router.push(`/journal?entry=${state.entry}`)
  forget()
}

function undo() {
  const { entry } = state
  forget()
  if (entry !== null) takeBack(entry)
}
</script>

<template>
  <v-snackbar v-model="shown" :timeout="12000" location="bottom end" min-width="0">
    <span role="status" class="told">{{ state.summary }}</span>
    <template #actions>
      <v-btn v-if="canGoBack" variant="text" @click="undo">Undo</v-btn>
      <v-btn variant="text" @click="look">Journal</v-btn>
      <v-btn variant="text" aria-label="Close the message" @click="forget">Close</v-btn>
    </template>
  </v-snackbar>
</template>

<style scoped>
.told {
  display: -webkit-box;
  -webkit-box-orient: vertical;
  -webkit-line-clamp: 2;
  overflow: hidden;
}
</style>
