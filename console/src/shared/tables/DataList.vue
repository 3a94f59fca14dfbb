<script setup lang="ts" generic="T extends object">
import { mdiArrowDown, mdiArrowUp, mdiTableColumnPlusAfter, mdiUnfoldMoreHorizontal } from '@mdi/js'
import { computed, nextTick, ref, useTemplateRef, watch } from 'vue'
import { useRouter } from 'vue-router'

import ProblemAlert from '../dialogs/ProblemAlert.vue'
import { useHiddenColumns } from './hidden'
import { inOrder, type Order } from './order'
import { vReachable } from './reachable'

export interface Column {
  key: string
  title: string
  number?: boolean
  /** By what the service sorts, where it does so; see `order`. */
  sort?: string
}

const {
  columns,
  label,
  items,
  rowKey,
  rowName = undefined,
  to = undefined,
  loading = false,
  error = null,
  more = false,
  empty = 'Nothing here yet.',
  height = undefined,
  columnsElsewhere = false,
} = defineProps<{
  columns: Column[]
  items: T[]
  rowKey: (item: T) => string | number
  /** What a row is called where it is chosen. */
  rowName?: (item: T) => string
  /** Where a click on the row leads. */
  to?: (item: T) => string | null
  label: string
  loading?: boolean
  error?: unknown
  more?: boolean
  empty?: string
  height?: string
  /** Whoever shows the list lets its columns be chosen. */
  columnsElsewhere?: boolean
}>()
const emit = defineEmits<{ more: [] }>()
const selected = defineModel<(string | number)[]>('selected')
/** Sorted by the service: whoever shows the list asks for it anew. Else what is here is sorted. */
const order = defineModel<Order | null>('order')
const own = ref<Order | null>(null)
const sorting = computed(() => (order.value === undefined ? own.value : order.value))
const rows = computed(() =>
  order.value === undefined && own.value && !more ? inOrder(items, own.value) : items,
)

// Wide lists let their columns be chosen; what a row is called, and what can be done, stay.
const WIDE = 6
const { hidden, toggle: toggleColumn } = useHiddenColumns(label)
const choosable = computed(() => {
  const titled = columns.filter((one) => one.title)
  return columnsElsewhere || titled.length < WIDE ? [] : titled.slice(1)
})
const shown = computed(() => {
  const away = choosable.value.filter((one) => hidden.value.includes(one.key))
  return columns.filter((one) => !away.includes(one))
})

const plain = (item: T, key: string) => (item as Record<string, unknown>)[key] ?? '–'

/** By what a head sorts; null: it does not. */
function sortOf(column: Column): string | null {
  if (order.value !== undefined) return column.sort ?? null
  if (more || items.length < 2 || !column.title) return null
  return items.some((item) => column.key in item) ? column.key : null
}

function sortBy(key: string) {
  const was = sorting.value
  const next = { key, descending: was?.key === key && !was.descending }
  if (order.value === undefined) own.value = next
  else order.value = next
}

const ariaSort = (column: Column) =>
  sorting.value && sortOf(column) === sorting.value.key
    ? sorting.value.descending
      ? 'descending'
      : 'ascending'
    : undefined

function toggle(item: T) {
  const key = rowKey(item)
  const chosen = selected.value ?? []
  selected.value = chosen.includes(key) ? chosen.filter((one) => one !== key) : [...chosen, key]
}

function toggleAll() {
  selected.value = selected.value?.length === items.length ? [] : items.map(rowKey)
}

const router = useRouter()
function go(event: MouseEvent, item: T) {
  const busy = (event.target as HTMLElement).closest('a, button, input, select, textarea, label')
  const target = to?.(item)
  if (!target || busy || window.getSelection()?.toString()) return
  void router.push(target)
}

// Whoever acts on one row after the other stays where they are: what went away hands the focus on.
const body = useTemplateRef<HTMLElement>('body')
let last: { element: HTMLElement; row: number; place: number } | null = null
const focusable = (row: Element | undefined) =>
  [...(row?.querySelectorAll<HTMLElement>('a, button, input, select') ?? [])].filter(
    (one) => one.tabIndex >= 0,
  )
function note(event: FocusEvent) {
  const element = event.target as HTMLElement
  const row = element.closest('tr')
  if (!row || !body.value) return
  const place = focusable(row).indexOf(element)
  last = { element, row: [...body.value.children].indexOf(row), place }
}
watch(
  () => items,
  async () => {
    await nextTick()
    if (!last || last.element.isConnected || document.activeElement !== document.body) return
    const rowsNow = body.value?.children ?? []
    const choices = focusable(rowsNow[Math.min(last.row, rowsNow.length - 1)])
    choices[Math.max(0, Math.min(last.place, choices.length - 1))]?.focus()
  },
)
</script>

<template>
  <ProblemAlert :error="error" />
  <v-card v-if="!error">
    <v-progress-linear v-if="loading" indeterminate color="primary" aria-label="Loading" />
    <v-table v-reachable="label" density="compact" fixed-header :height="height" hover>
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
              :disabled="!items.length"
              aria-label="Choose all shown"
              @change="toggleAll"
            />
          </th>
          <th
            v-for="column in shown"
            :key="column.key"
            scope="col"
            :class="{ number: column.number }"
            :aria-sort="ariaSort(column)"
          >
            <button
              v-if="sortOf(column)"
              type="button"
              class="head"
              @click="sortBy(sortOf(column)!)"
            >
              {{ column.title
              }}<v-icon
                :icon="
                  !ariaSort(column)
                    ? mdiUnfoldMoreHorizontal
                    : sorting?.descending
                      ? mdiArrowDown
                      : mdiArrowUp
                "
                size="12"
                class="way"
                aria-hidden="true"
              />
            </button>
            <template v-else-if="column.title">{{ column.title }}</template><span
              v-else
              class="visually-hidden"
              >What can be done</span
            >
          </th>
          <th v-if="choosable.length" scope="col" class="chooser">
            <v-menu :close-on-content-click="false" location="bottom end">
              <template #activator="{ props }"
                ><v-btn
                  v-bind="props"
                  :icon="mdiTableColumnPlusAfter"
                  size="x-small"
                  variant="text"
                  :aria-label="`Columns of ${label}`"
                  title="Columns"
              /></template>
              <v-card class="pa-3">
                <label v-for="column in choosable" :key="column.key" class="d-block"
                  ><input
                    type="checkbox"
                    :checked="!hidden.includes(column.key)"
                    @change="toggleColumn(column.key)"
                  />
                  {{ column.title }}</label
                >
              </v-card>
            </v-menu>
          </th>
        </tr>
      </thead>
      <tbody ref="body" @focusin="note">
        <tr
          v-for="item in rows"
          :key="rowKey(item)"
          :class="{ target: to?.(item) }"
          @click="go($event, item)"
        >
          <td v-if="selected" class="tick">
            <input
              type="checkbox"
              :checked="selected.includes(rowKey(item))"
              :aria-label="`Choose ${rowName ? rowName(item) : rowKey(item)}`"
              @change="toggle(item)"
            />
          </td>
          <td v-for="column in shown" :key="column.key" :class="{ number: column.number }">
            <slot :name="column.key" :item="item">{{ plain(item, column.key) }}</slot>
          </td>
          <td v-if="choosable.length" />
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
.chooser {
  width: 36px;
  padding-inline: 2px !important;
  text-align: right;
}
thead th {
  font-weight: 620 !important;
}
.head {
  position: relative;
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  padding: 0;
  cursor: pointer;
  white-space: nowrap;
}
/* Beside the word, where no column gets wider by it. */
.way {
  position: absolute;
  left: 100%;
  top: 50%;
  translate: 0 -50%;
}
.number .way {
  left: auto;
  right: 100%;
}
/* At the edge there is no room before the word. */
th:first-child .way {
  left: 100%;
  right: auto;
}
.head:hover {
  text-decoration: underline;
}
.target {
  cursor: pointer;
}
</style>
