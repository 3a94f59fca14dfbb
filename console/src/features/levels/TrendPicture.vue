<script setup lang="ts">
import {
  CategoryScale,
  Chart,
  Filler,
  LinearScale,
  LineController,
  LineElement,
  PointElement,
  Tooltip,
} from 'chart.js'
import { computed } from 'vue'
import { Line } from 'vue-chartjs'
import { useTheme } from 'vuetify'

import type { Schemas } from '../../api/client'
import { onDay, plural } from '../../shared/formats'

Chart.register(
  CategoryScale,
  Filler,
  LinearScale,
  LineController,
  LineElement,
  PointElement,
  Tooltip,
)
/** How many discrepancies stood open, day by day. */
const { days } = defineProps<{ days: Schemas['LevelDay'][] }>()
const theme = useTheme()
const open = computed(() => {
  const found = new Map<string, number>()
  for (const day of days) found.set(day.on_day, (found.get(day.on_day) ?? 0) + day.open)
  return [...found]
})
const said = computed(() => {
  const last = open.value.at(-1)
  return last ? `${plural(last[1], 'discrepancy line')} open on ${onDay(last[0])}` : ''
})
const data = computed(() => {
  const { primary } = theme.current.value.colors as Record<string, string>
  return {
    labels: open.value.map(([day]) => onDay(day)),
    datasets: [
      {
        label: 'open',
        data: open.value.map(([, count]) => count),
        borderColor: primary,
        backgroundColor: `${primary}22`,
        fill: true,
        stepped: true as const,
        pointRadius: open.value.length > 40 ? 0 : 3,
      },
    ],
  }
})
const options = computed(() => {
  const color = theme.current.value.colors['on-surface'] as string
  return {
    responsive: true,
    maintainAspectRatio: false,
    animation: false as const,
    plugins: { legend: { display: false } },
    scales: {
      x: { ticks: { color, maxTicksLimit: 5 }, grid: { display: false } },
      y: { ticks: { color, precision: 0 }, beginAtZero: true },
    },
  }
})
</script>

<template>
  <v-card class="pa-3">
    <h2>Open discrepancies over the days</h2>
    <div class="chart"><Line :data="data" :options="options" role="img" :aria-label="said" /></div>
  </v-card>
</template>

<style scoped>
h2 {
  font-size: 1rem;
}
.chart {
  height: 250px;
  position: relative;
}
</style>
