<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import { number, plural } from '../../shared/formats'

/** Which systems know how many of the same devices: a dot for each that does, a bar for how many;
    every line leads to its devices. */
const { levels, chosen } = defineProps<{ levels: Schemas['Levels']; chosen: number | null }>()
const emit = defineEmits<{ choose: [mask: number] }>()
const most = computed(() => Math.max(1, ...levels.patterns.map((pattern) => pattern.devices)))
const knows = (mask: number, place: number) => (mask >> place) & 1
const said = (pattern: Schemas['Pattern']) =>
  `${plural(pattern.devices, 'device')} known by ` +
  (levels.rosters
    .filter((_, place) => knows(pattern.mask, place))
    .map((roster) => roster.name)
    .join(', ') || 'nobody')
/** The square root lets a handful be seen beside thousands. */
const width = (devices: number) => `${Math.max(2, Math.sqrt(devices / most.value) * 100)}%`
</script>

<template>
  <v-card class="pa-3">
    <h2>Who knows the same devices</h2>
    <div class="scroll">
      <table>
        <thead>
          <tr>
            <th v-for="roster in levels.rosters" :key="roster.key" scope="col" class="roster">
              {{ roster.name }}<br /><span class="muted">{{ number(roster.devices) }}</span>
            </th>
            <th scope="col" class="number">Devices</th>
            <th scope="col"><span class="visually-hidden">How many</span></th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="pattern in levels.patterns"
            :key="pattern.mask"
            :class="{ chosen: pattern.mask === chosen }"
          >
            <td v-for="(roster, place) in levels.rosters" :key="roster.key" class="dot">
              <span :class="knows(pattern.mask, place) ? 'yes' : 'no'" aria-hidden="true" />
              <span class="visually-hidden">{{
                knows(pattern.mask, place) ? 'knows them' : 'does not'
              }}</span>
            </td>
            <td class="number">
              <button
                type="button"
                :aria-label="said(pattern)"
                @click="emit('choose', pattern.mask)"
              >
                {{ number(pattern.devices) }}
              </button>
            </td>
            <td class="wide" aria-hidden="true" @click="emit('choose', pattern.mask)">
              <span class="bar" :style="{ width: width(pattern.devices) }" />
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <p class="muted note">A filled dot knows the device, an empty one does not.</p>
  </v-card>
</template>

<style scoped>
h2 {
  font-size: 1rem;
}
.scroll {
  overflow-x: auto;
  max-height: 330px;
  overflow-y: auto;
}
table {
  width: 100%;
  border-collapse: collapse;
}
.roster {
  font-weight: 600;
  font-size: 0.82rem;
  padding: 2px 8px;
  text-align: center;
  min-width: 76px;
}
.dot {
  text-align: center;
}
.dot .yes,
.dot .no {
  display: inline-block;
  width: 13px;
  height: 13px;
  border-radius: 50%;
  border: 2px solid rgb(var(--v-theme-primary));
}
.dot .yes {
  background: rgb(var(--v-theme-primary));
}
.dot .no {
  opacity: 0.45;
}
tbody tr {
  border-top: 1px solid rgba(var(--v-border-color), 0.16);
}
tbody tr:hover,
.chosen {
  background: rgba(var(--v-theme-primary), 0.09);
}
td {
  padding: 3px 8px;
}
button {
  background: none;
  border: 0;
  padding: 4px 6px;
  cursor: pointer;
  color: rgb(var(--v-theme-primary));
  text-decoration: underline;
  font-variant-numeric: tabular-nums;
}
.wide {
  width: 34%;
  cursor: pointer;
}
.bar {
  display: block;
  height: 14px;
  border-radius: 2px;
  background: rgb(var(--v-theme-primary));
}
.note {
  font-size: 0.82rem;
  margin-top: 6px;
}
</style>
