<script setup lang="ts">
import { mdiAlertOutline, mdiCheckCircleOutline, mdiClockAlertOutline } from '@mdi/js'
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import { number, onDay } from '../../shared/formats'

/** Whether a pool's seats suffice, in words, a colour and a sign. */
const { pool } = defineProps<{ pool: Schemas['PoolDetail'] }>()
const shown = computed(() => {
  const missing = pool.needed - pool.held
  switch (pool.state) {
    case 'covered':
      return { color: 'success', icon: mdiCheckCircleOutline, text: 'covered' }
    case 'grace':
      return {
        color: 'warning',
        icon: mdiClockAlertOutline,
        text: `in grace until ${onDay(pool.lasts_on)}`,
      }
    case 'lapsed':
      return { color: 'error', icon: mdiAlertOutline, text: `lapsed on ${onDay(pool.ended_on)}` }
    default:
      return { color: 'error', icon: mdiAlertOutline, text: `short of ${number(missing)}` }
  }
})
</script>

<template>
  <v-chip :color="shown.color" :prepend-icon="shown.icon">{{ shown.text }}</v-chip>
</template>
