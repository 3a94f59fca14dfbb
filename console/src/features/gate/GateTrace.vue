<script setup lang="ts">
import { mdiCheck, mdiClose } from '@mdi/js'

import type { Schemas } from '../../api/client'

/** Every step of a decision of the gate. */
const { trace } = defineProps<{ trace: Schemas['Step'][] }>()
</script>

<template>
  <table class="trace">
    <caption class="visually-hidden">
      The gate's trace
    </caption>
    <tbody>
      <tr v-for="(step, place) in trace" :key="place" :class="{ 'tone-bad': !step.passed }">
        <td>
          <v-icon
            :icon="step.passed ? mdiCheck : mdiClose"
            size="16"
            :aria-label="step.passed ? 'passed' : 'failed'"
          />
        </td>
        <th scope="row">{{ step.facet }}</th>
        <td>{{ step.explanation || step.actual }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.trace {
  border-collapse: collapse;
  width: 100%;
}
.trace th,
.trace td {
  text-align: left;
  vertical-align: top;
  padding: 3px 8px 3px 0;
  font-weight: 500;
}
</style>
