<script setup lang="ts">
import {
  mdiAlertOctagonOutline,
  mdiArchiveOutline,
  mdiCheckCircleOutline,
  mdiPauseCircleOutline,
  mdiSleep,
  mdiTruckOutline,
} from '@mdi/js'
import { computed } from 'vue'

import { onDay } from '../formats'

const {
  stage,
  flag = null,
  retireOn = null,
} = defineProps<{ stage: string; flag?: string | null; retireOn?: string | null }>()
const looks: Record<string, [string, string | undefined]> = {
  awaited: [mdiTruckOutline, 'info'],
  parked: [mdiPauseCircleOutline, 'warning'],
  active: [mdiCheckCircleOutline, 'success'],
  dormant: [mdiSleep, 'secondary'],
  retired: [mdiArchiveOutline, 'secondary'],
  admitted: [mdiCheckCircleOutline, 'success'],
  refused: [mdiAlertOctagonOutline, 'error'],
}
const look = computed(() => looks[stage] ?? [mdiCheckCircleOutline, undefined])
</script>

<template>
  <v-chip :color="look[1]" :prepend-icon="look[0]">{{ stage }}</v-chip>
  <span v-if="retireOn" class="muted nowrap ml-1">retired on {{ onDay(retireOn) }}</span>
  <v-chip v-if="flag" color="error" :prepend-icon="mdiAlertOctagonOutline" class="ml-1">{{
    flag
  }}</v-chip>
</template>
