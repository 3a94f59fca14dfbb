<script setup lang="ts">
import {
  Chart,
  Filler,
  Legend,
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
import { number, onDay } from '../../shared/formats'

Chart.register(Filler, Legend, LinearScale, LineController, LineElement, PointElement, Tooltip)
/** Seats against what is needed, day by day: as it was, and as it is expected. */
const { course } = defineProps<{ course: Schemas['PoolCourse'] }>()
const theme = useTheme()
const DAY = 86_400_000
/** Seen on light and on dark. */
const GRID = 'rgba(128, 128, 128, 0.25)'
const at = (day: string) => Date.parse(day) / DAY
const iso = (value: number) => new Date(value * DAY).toISOString().slice(0, 10)
const today = computed(() => at(course.today))
const said = computed(() => {
  const now = course.days.find((day) => day.day === course.today)
  const last = course.days.at(-1)
  if (!now || !last) return ''
  return (
    `Today ${number(now.needed)} needed and ${number(now.seats)} seats; ` +
    `on ${onDay(last.day)} ${number(last.needed)} expected and ${number(last.seats)} seats.`
  )
})
const data = computed(() => {
  const colors = theme.current.value.colors as Record<string, string>
  const points = (value: (day: Schemas['PoolDay']) => number, past: boolean | null) =>
    course.days
      .filter(
        (day) => past === null || (past ? at(day.day) <= today.value : at(day.day) >= today.value),
      )
      .map((day) => ({ x: at(day.day), y: value(day) }))
  const line = { pointRadius: 0, borderWidth: 2 }
  return {
    datasets: [
      {
        ...line,
        label: 'seats',
        data: points((day) => day.seats, null),
        borderColor: colors.primary,
        backgroundColor: `${colors.primary}22`,
        fill: true,
        stepped: true as const,
      },
      {
        ...line,
        label: 'of them in grace',
        data: points((day) => day.in_grace, null),
        borderColor: colors.warning,
        backgroundColor: `${colors.warning}55`,
        fill: true,
        stepped: true as const,
      },
      {
        ...line,
        label: 'needed',
        data: points((day) => day.needed, true),
        borderColor: colors['on-surface'],
      },
      {
        ...line,
        label: 'needed, expected',
        data: points((day) => day.needed, false),
        borderColor: colors['on-surface'],
        borderDash: [5, 4],
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
    interaction: { mode: 'index' as const, intersect: false, axis: 'x' as const },
    plugins: {
      legend: { labels: { color, boxWidth: 24, boxHeight: 2 } },
      tooltip: {
        callbacks: {
          title: (items: { parsed: { x: number | null } }[]) => onDay(iso(items[0]?.parsed.x ?? 0)),
        },
      },
    },
    scales: {
      x: {
        type: 'linear' as const,
        min: at(course.days[0]?.day ?? course.today),
        max: at(course.days.at(-1)?.day ?? course.today),
        ticks: {
          color,
          maxTicksLimit: 7,
          includeBounds: false,
          callback: (value: string | number) => onDay(iso(Number(value))),
        },
        grid: { color: GRID },
      },
      y: { ticks: { color, precision: 0 }, beginAtZero: true, grace: '8%', grid: { color: GRID } },
    },
  }
})
/** A line through today. */
const marked = {
  id: 'today',
  afterDraw(chart: Chart) {
    const { ctx, chartArea, scales } = chart
    const x = scales.x!.getPixelForValue(today.value)
    ctx.save()
    ctx.strokeStyle = theme.current.value.colors['on-surface'] as string
    ctx.setLineDash([2, 3])
    ctx.beginPath()
    ctx.moveTo(x, chartArea.top)
    ctx.lineTo(x, chartArea.bottom)
    ctx.stroke()
    ctx.fillStyle = ctx.strokeStyle
    ctx.fillText('today', x + 4, chartArea.top + 10)
    ctx.restore()
  },
}
</script>

<template>
  <div class="chart">
    <Line :data="data" :options="options" :plugins="[marked]" role="img" :aria-label="said" />
  </div>
</template>

<style scoped>
.chart {
  height: 260px;
  position: relative;
}
</style>
