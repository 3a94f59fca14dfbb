<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import { number, plural } from '../../shared/formats'
import { bars, past } from './idle'

/** The idle days of everything watched, and a window that can be moved through them. */
const { idle } = defineProps<{ idle: Schemas['Idle'] }>()
const window = defineModel<number>({ required: true })
const WIDTH = 15
const MOST = 28
const HEIGHT = 70
const found = computed(() => bars(idle, WIDTH, MOST))
const highest = computed(() => Math.max(1, ...found.value))
const now = computed(() => past(idle, window.value))
/** Few are seen beside many. */
const height = (count: number) => (count ? 2 + (HEIGHT - 2) * Math.sqrt(count / highest.value) : 0)
const words = computed(
  () =>
    `${plural(now.value.due, 'device')} of ${number(idle.watched)} are past ` +
    `${plural(window.value, 'day')}` +
    (now.value.held ? `, beside ${number(now.value.held)} on hold` : '') +
    (now.value.left ? `, beside ${number(now.value.left)} that a longer rule keeps` : '') +
    `; with 30 days less ${number(past(idle, Math.max(0, window.value - 30)).due)}, ` +
    `with 30 more ${number(past(idle, window.value + 30).due)}.`,
)
</script>

<template>
  <div>
    <svg
      :viewBox="`0 0 ${MOST * WIDTH} ${HEIGHT}`"
      preserveAspectRatio="none"
      role="img"
      :aria-label="words"
    >
      <rect
        v-for="(count, place) in found"
        :key="place"
        :x="place * WIDTH + 1"
        :y="HEIGHT - height(count)"
        :width="WIDTH - 2"
        :height="height(count)"
        :class="{ late: (place + 1) * WIDTH > window }"
      />
      <line :x1="window" :x2="window" y1="0" :y2="HEIGHT" />
    </svg>
    <v-slider
      v-model="window"
      :min="21"
      :max="400"
      :step="1"
      label="Idle window"
      hide-details
      color="primary"
    >
      <template #append>
        <v-text-field
          v-model.number="window"
          type="number"
          label="Idle window (days)"
          min="1"
          hide-details
          class="days"
        />
      </template>
    </v-slider>
    <p aria-live="polite">{{ words }}</p>
  </div>
</template>

<style scoped>
svg {
  width: 100%;
  height: 70px;
  border-bottom: 1px solid rgba(var(--v-border-color), 0.4);
}
rect {
  fill: rgb(var(--v-theme-primary));
}
rect.late {
  fill: rgb(var(--v-theme-error));
}
line {
  stroke: rgb(var(--v-theme-on-surface));
  stroke-width: 1.5;
}
.days {
  width: 160px;
}
</style>
