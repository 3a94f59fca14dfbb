<script setup lang="ts">
import { BarController, BarElement, CategoryScale, Chart, LinearScale, Tooltip } from 'chart.js'
import { computed } from 'vue'
import { Bar } from 'vue-chartjs'
import { useTheme } from 'vuetify'

import type { Schemas } from '../../api/client'

Chart.register(BarController, BarElement, CategoryScale, LinearScale, Tooltip)
const { bars, line } = defineProps<{ bars: Schemas['Bar'][]; line: number }>()
const theme = useTheme()
const said = computed(
  () =>
    `Idle days of everything watched; ${beyond.value} devices lie at or beyond the window of ` +
    `${line} days`,
)
const beyond = computed(() =>
  bars.filter((bar) => bar.low >= line).reduce((sum, bar) => sum + bar.count, 0),
)
const data = computed(() => {
  const { primary, error } = theme.current.value.colors as Record<string, string>
  return {
    labels: bars.map((bar) => `${bar.low}–${bar.high}`),
    datasets: [
      {
        label: 'devices',
        data: bars.map((bar) => bar.count),
        backgroundColor: bars.map((bar) => (bar.low >= line ? error : primary)),
        borderRadius: 2,
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
      x: {
        title: { display: true, text: 'days idle', color },
        ticks: { color },
        grid: { display: false },
      },
      y: {
        type: 'linear' as const,
        title: { display: true, text: 'devices', color },
        ticks: { color, precision: 0 },
        beginAtZero: true,
      },
    },
  }
})
</script>

<template>
  <figure>
    <div class="chart">
      <Bar :data="data" :options="options" role="img" :aria-label="said" />
    </div>
    <figcaption class="muted">
      Idle days of everything watched. From {{ line }} days on (the window), bars are in the warning
      colour.
    </figcaption>
  </figure>
</template>

<style scoped>
figure {
  margin: 0;
}
.chart {
  height: 170px;
  position: relative;
}
</style>
