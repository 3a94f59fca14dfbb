<script setup lang="ts" generic="T extends object">
import ProblemAlert from '../dialogs/ProblemAlert.vue'

export interface Column {
  key: string
  title: string
  number?: boolean
}

const {
  columns,
  items,
  rowKey,
  loading = false,
  error = null,
  more = false,
  empty = 'Nothing here yet.',
  height = undefined,
} = defineProps<{
  columns: Column[]
  items: T[]
  rowKey: (item: T) => string | number
  label: string
  loading?: boolean
  error?: unknown
  more?: boolean
  empty?: string
  height?: string
}>()
const emit = defineEmits<{ more: [] }>()
const selected = defineModel<(string | number)[]>('selected')

const plain = (item: T, key: string) => (item as Record<string, unknown>)[key] ?? '–'

function toggle(item: T) {
  const key = rowKey(item)
  const chosen = selected.value ?? []
  selected.value = chosen.includes(key) ? chosen.filter((one) => one !== key) : [...chosen, key]
}

function toggleAll() {
  selected.value = selected.value?.length === items.length ? [] : items.map(rowKey)
}
</script>

<template>
  <ProblemAlert :error="error" />
  <v-card v-if="!error">
    <v-progress-linear v-if="loading" indeterminate color="primary" aria-label="Loading" />
    <v-table density="compact" fixed-header :height="height" hover>
      <caption class="visually-hidden">
        {{
          label
        }}
      </caption>
      <thead>
        <tr>
          <th v-if="selected" scope="col" class="tick">
            <input
              type="checkbox"
              :checked="items.length > 0 && selected.length === items.length"
              aria-label="Choose all shown"
              @change="toggleAll"
            />
          </th>
          <th
            v-for="column in columns"
            :key="column.key"
            scope="col"
            :class="{ number: column.number }"
          >
            <template v-if="column.title">{{ column.title }}</template><span
              v-else
              class="visually-hidden"
              >What can be done</span
            >
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="item in items" :key="rowKey(item)">
          <td v-if="selected" class="tick">
            <input
              type="checkbox"
              :checked="selected.includes(rowKey(item))"
              :aria-label="`Choose ${rowKey(item)}`"
              @change="toggle(item)"
            />
          </td>
          <td v-for="column in columns" :key="column.key" :class="{ number: column.number }">
            <slot :name="column.key" :item="item">{{ plain(item, column.key) }}</slot>
          </td>
        </tr>
      </tbody>
    </v-table>
    <div v-if="!loading && !items.length" class="pa-6 text-center muted">
      <slot name="empty">{{ empty }}</slot>
    </div>
    <div v-if="more" class="pa-2 text-center">
      <v-btn variant="text" color="primary" :loading="loading" @click="emit('more')"
        >Show more</v-btn
      >
    </div>
  </v-card>
</template>

<style scoped>
.tick {
  width: 36px;
}
.tick input {
  width: 16px;
  height: 16px;
  accent-color: rgb(var(--v-theme-primary));
}
thead th {
  font-weight: 620 !important;
}
</style>
