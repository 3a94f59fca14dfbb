<script setup lang="ts">
import {
  mdiAlertOutline,
  mdiCheckCircleOutline,
  mdiClockAlertOutline,
  mdiHelpCircleOutline,
} from '@mdi/js'

import type { Schemas } from '../../api/client'

/** What is to be thought of what a source said last. */
const { source } = defineProps<{ source: Schemas['SourceDetail'] }>()
const LOOKS = {
  never: { color: 'secondary', icon: mdiHelpCircleOutline, words: 'never read' },
  fresh: { color: 'success', icon: mdiCheckCircleOutline, words: 'fresh' },
  late: { color: 'warning', icon: mdiClockAlertOutline, words: 'late' },
  failing: { color: 'error', icon: mdiAlertOutline, words: 'failing' },
}
</script>

<template>
  <v-chip :color="LOOKS[source.state].color" :prepend-icon="LOOKS[source.state].icon">{{
    source.at_work ? 'being read' : LOOKS[source.state].words
  }}</v-chip>
</template>
