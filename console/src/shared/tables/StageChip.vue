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

const { stage, flag = null } = defineProps<{ stage: string; flag?: string | null }>()
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
  <v-chip v-if="flag" color="error" :prepend-icon="mdiAlertOctagonOutline" class="ml-1">{{
    flag
  }}</v-chip>
</template>
