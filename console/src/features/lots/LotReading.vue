<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import { number, plural, words } from '../../shared/formats'
import { useAction } from '../../shared/actions/useAction'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { answersTo, type Answer } from './answers'

/** How the file was understood, as a small picture of it that is corrected by clicking. */
const { lot, editable } = defineProps<{ lot: Schemas['Lot']; editable: boolean }>()
const emit = defineEmits<{ settled: [] }>()
const { identifierColumns, lotColumns, encodings } = useVocabulary()
const { busy, failure: error, run } = useAction()

const SHOWN_ABOVE = 5
const SHOWN_ROWS = 4
const SHOWN_OUT = 4
const path = computed(() => ({ lot_id: lot.id }))
const rowsOf = (verdict?: Schemas['Verdict']) =>
  got(
    api.GET('/api/v1/lots/{lot_id}/rows', {
      params: {
        path: path.value,
        query: { verdict, limit: verdict ? SHOWN_OUT : SHOWN_ROWS },
      },
    }),
  )
const { data: first } = useQuery({
  queryKey: computed(() => ['lot-rows', path.value, 'first']),
  queryFn: () => rowsOf(),
})
const { data: out } = useQuery({
  queryKey: computed(() => ['lot-rows', path.value, 'out']),
  queryFn: () => rowsOf('no_row'),
  enabled: () => (lot.counts.no_row ?? 0) > 0,
})

/** The first rows, and the first lines that are none, in their order. */
const rows = computed(() => {
  const found = new Map<number, Schemas['LotRow']>()
  for (const row of [...(first.value?.items ?? []), ...(out.value?.items ?? [])])
    found.set(row.row, row)
  return [...found.values()].sort((one, other) => one.row - other.row)
})
const above = computed(() => lot.above.slice(-SHOWN_ABOVE))
const isHeaders = (line: number) => line === lot.header_row
const kindOf = (header: string) => {
  const column = lot.columns[header]
  if (!column) return 'detail'
  return identifierColumns.value.includes(column) ? 'identifier' : 'field'
}
const gap = (place: number) => {
  const before = rows.value[place - 1]
  return before !== undefined && rows.value[place]!.row > before.row + 1
}
const unidentified = computed(
  () => !Object.values(lot.columns).some((column) => identifierColumns.value.includes(column)),
)
const isText = computed(() => !['workbook', 'json', 'paste'].includes(lot.layout))
const sheetsRead = computed(() =>
  lot.sheets_read.length ? lot.sheets_read : lot.sheet ? [lot.sheet] : [],
)
const summary = computed(() => {
  const parts = [lot.layout === 'workbook' ? 'workbook' : `${lot.layout} separated`]
  if (lot.layout === 'json') parts[0] = 'JSON'
  if (lot.layout === 'paste') parts[0] = 'identifiers, one by one'
  if (lot.encoding) parts.push(lot.encoding)
  if (lot.layout !== 'paste' && lot.layout !== 'json')
    parts.push(lot.header_row ? `headers on line ${lot.header_row}` : 'no headers')
  const none = lot.counts.no_row ?? 0
  if (none) parts.push(`${plural(none, 'line')} left out`)
  if (lot.columns_from === 'remembered') parts.push('columns as corrected for this supplier before')
  if (lot.columns_from === 'given') parts.push('columns as corrected by hand')
  return parts.join(' · ')
})

/** The line whose acts are open. */
const open = ref<string | null>(null)
function settle() {
  open.value = null
  emit('settled')
}
async function readAgain(body: Schemas['LotSettings']) {
  const done = await run(() =>
    got(api.POST('/api/v1/lots/{lot_id}/settings', { params: { path: path.value }, body })),
  )
  if (done) settle()
}
async function decide(row: number, remedy: Schemas['Remedy'] | null) {
  const asked = { params: { path: path.value }, body: { rows: [row], remedy } }
  if (await run(() => got(api.POST('/api/v1/lots/{lot_id}/resolve', asked)))) settle()
}
const chosen = (event: Event) => (event.target as HTMLSelectElement).value
const mean = (header: string, event: Event) =>
  readAgain({ columns: { [header]: chosen(event) || null } })
function takeSheet(sheet: string, taken: boolean) {
  const wanted = lot.sheets.filter((one) =>
    one === sheet ? taken : sheetsRead.value.includes(one),
  )
  if (wanted.length === 1) void readAgain({ sheet: wanted[0] })
  else if (wanted.length) void readAgain({ sheets: wanted })
}
const answer = (one: Answer) => readAgain(one.settings)
const toggle = (line: string) => (open.value = open.value === line ? null : line)
const noteOn = (row: Schemas['LotRow']) => row.notes[0]?.title ?? ''
</script>

<template>
  <v-card class="pa-4">
    <h2 class="mb-1">How the file was understood</h2>
    <p class="muted mb-2">{{ summary }}</p>
    <v-alert v-if="unidentified" type="warning" class="mb-2"
      >No column holds an identifier. Say which one does, in its head below.</v-alert
    >
    <ProblemAlert :error="error" />
    <v-progress-linear v-if="busy" indeterminate color="primary" aria-label="Reading it again" />
    <ul v-if="lot.remarks.length" class="remarks">
      <li
        v-for="(remark, place) in lot.remarks"
        :key="place"
        :class="{
          'tone-warn': remark.severity === 'warn',
          'tone-bad': remark.severity === 'error',
        }"
      >
        <span>
          <strong v-if="remark.column">{{ remark.column }}: </strong>{{ remark.title
          }}<template v-if="remark.rows">, {{ plural(remark.rows, 'row') }}</template
          ><span v-if="remark.given" class="muted"> ({{ remark.given }})</span>
        </span>
        <template v-if="editable">
          <v-btn
            v-for="one in answersTo(remark, lot)"
            :key="one.label"
            size="small"
            variant="outlined"
            color="primary"
            :disabled="busy"
            @click="answer(one)"
            >{{ one.label }}</v-btn
          >
        </template>
      </li>
    </ul>
    <div class="row-gap mb-2">
      <fieldset v-if="lot.sheets.length > 1" class="sheets">
        <legend class="muted">Sheets</legend>
        <label v-for="sheet in lot.sheets" :key="sheet">
          <input
            type="checkbox"
            :checked="sheetsRead.includes(sheet)"
            :disabled="!editable || busy"
            @change="takeSheet(sheet, ($event.target as HTMLInputElement).checked)"
          />
          {{ sheet }}
        </label>
      </fieldset>
      <label v-if="isText && editable" class="muted">
        Encoding
        <select
          :disabled="busy"
          :value="lot.encoding"
          @change="readAgain({ encoding: chosen($event) })"
        >
          <option v-if="!encodings.includes(lot.encoding)">{{ lot.encoding }}</option>
          <option v-for="one in encodings" :key="one">{{ one }}</option>
        </select>
      </label>
    </div>
    <div class="picture" tabindex="0" role="region" aria-label="Picture of the file">
      <table>
        <thead>
          <tr>
            <th scope="col" class="line">Line</th>
            <th v-for="header in lot.headers" :key="header" scope="col" :class="kindOf(header)">
              <select
                v-if="editable"
                :value="lot.columns[header] ?? ''"
                :disabled="busy"
                :aria-label="`What ${header} means`"
                @change="mean(header, $event)"
              >
                <option value="">detail</option>
                <option v-for="column in lotColumns" :key="column" :value="column">
                  {{ words(column) }}
                </option>
              </select>
              <span v-else>{{ lot.columns[header] ? words(lot.columns[header]!) : 'detail' }}</span>
              <span v-if="lot.manner.dates[header]" class="said"
                >{{ lot.manner.dates[header] }} first</span
              >
              <button
                v-if="lot.manner.trusted.includes(header)"
                type="button"
                class="said link"
                :disabled="!editable || busy"
                @click="readAgain({ trusted: { [header]: false } })"
              >
                numbers not doubted: doubt again
              </button>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="line in above"
            :key="`above-${line.line}`"
            :class="isHeaders(line.line) ? 'headers' : 'out'"
          >
            <th scope="row" class="line">
              <button
                type="button"
                :disabled="!editable || busy"
                :aria-expanded="open === `a${line.line}`"
                @click="toggle(`a${line.line}`)"
              >
                {{ number(line.line) }}
              </button>
              <span v-if="open === `a${line.line}`" class="acts">
                <v-btn
                  v-if="!isHeaders(line.line)"
                  size="small"
                  color="primary"
                  @click="readAgain({ header_row: line.line })"
                  >The headers are here</v-btn
                >
                <v-btn v-else size="small" color="primary" @click="readAgain({ header_row: 0 })"
                  >There are no headers</v-btn
                >
              </span>
            </th>
            <template v-if="isHeaders(line.line)">
              <td v-for="header in lot.headers" :key="header" :class="kindOf(header)">
                {{ header }}
              </td>
            </template>
            <td v-else :colspan="lot.headers.length">
              {{ line.cells.filter((cell) => cell.trim()).join(' · ') || '(empty)' }}
              <em>above the rows</em>
            </td>
          </tr>
          <template v-for="(row, place) in rows" :key="row.row">
            <tr v-if="gap(place)" class="between" aria-hidden="true">
              <td></td>
              <td :colspan="lot.headers.length">⋮</td>
            </tr>
            <tr
              :class="row.verdict === 'no_row' ? 'out' : row.remedy === 'skip' ? 'out' : 'is-row'"
            >
              <th scope="row" class="line">
                <button
                  type="button"
                  :disabled="!editable || busy"
                  :aria-expanded="open === `r${row.row}`"
                  @click="toggle(`r${row.row}`)"
                >
                  {{ number(row.row) }}
                </button>
                <span v-if="open === `r${row.row}`" class="acts">
                  <v-btn
                    v-if="row.verdict === 'no_row'"
                    size="small"
                    color="primary"
                    @click="decide(row.row, 'take')"
                    >It is a row</v-btn
                  >
                  <v-btn v-else-if="row.remedy" size="small" @click="decide(row.row, null)"
                    >Undo “{{ words(row.remedy) }}”</v-btn
                  >
                  <v-btn v-else size="small" color="primary" @click="decide(row.row, 'skip')"
                    >Not a row: leave it out</v-btn
                  >
                  <v-btn size="small" @click="readAgain({ header_row: row.row })"
                    >The headers are here</v-btn
                  >
                </span>
              </th>
              <td v-if="row.verdict === 'no_row'" :colspan="lot.headers.length">
                {{
                  Object.values(row.cells)
                    .filter((cell) => cell?.trim())
                    .join(' · ')
                }}
                <em>{{ noteOn(row) }}</em>
              </td>
              <template v-else>
                <td v-for="header in lot.headers" :key="header" :class="kindOf(header)">
                  <template v-if="row.kept[header]"
                    >{{ row.kept[header] }} <s class="muted">{{ row.cells[header] }}</s></template
                  ><template v-else>{{ row.edited[header] ?? row.cells[header] ?? '' }}</template>
                </td>
              </template>
            </tr>
          </template>
        </tbody>
      </table>
    </div>
    <p class="muted mt-2 key">
      <span class="identifier">identifiers</span> <span class="field">known columns</span>
      <span class="detail">kept as details</span> <span class="left-out">left out</span>
      <template v-if="editable"> Click a line’s number to say what it is.</template>
    </p>
  </v-card>
</template>

<style scoped>
.remarks {
  list-style: none;
  padding: 0;
  margin-bottom: 10px;
}
.remarks li {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
  padding: 3px 0;
}
.picture {
  overflow-x: auto;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.2);
  border-radius: 5px;
}
table {
  border-collapse: collapse;
  font-size: 0.8rem;
  min-width: 100%;
}
th,
td {
  padding: 2px 8px;
  text-align: left;
  max-width: 190px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  font-weight: 400;
  border-bottom: 1px solid rgba(var(--v-theme-on-surface), 0.08);
}
th.line {
  text-align: right;
  max-width: none;
  overflow: visible;
  width: 1%;
}
thead select {
  max-width: 150px;
  font: inherit;
  font-weight: 600;
  color: inherit;
  background: transparent;
}
select {
  border: 1px solid rgba(var(--v-theme-on-surface), 0.35);
  border-radius: 4px;
  padding: 1px 4px;
  background: rgb(var(--v-theme-surface));
  color: inherit;
}
.line button,
.link {
  border: 0;
  background: none;
  color: rgb(var(--v-theme-primary));
  font: inherit;
  cursor: pointer;
  text-decoration: underline;
  padding: 0 2px;
}
.line button:disabled {
  color: inherit;
  text-decoration: none;
  cursor: default;
}
.acts {
  display: flex;
  gap: 4px;
  padding: 4px 0;
}
.identifier {
  background: rgba(var(--v-theme-primary), 0.16);
}
.field {
  background: rgba(var(--v-theme-success), 0.12);
}
.headers td {
  font-weight: 650;
}
.out td,
.left-out {
  background: repeating-linear-gradient(
    135deg,
    transparent 0 6px,
    rgba(var(--v-theme-on-surface), 0.09) 6px 9px
  );
}
.out em {
  opacity: 0.85;
  margin-left: 8px;
}
.between td {
  text-align: center;
}
.said {
  display: block;
  font-size: 0.75rem;
}
.key span {
  padding: 1px 8px;
  border-radius: 4px;
  margin-right: 6px;
}
.sheets {
  border: 0;
  display: flex;
  gap: 12px;
  align-items: center;
  flex-wrap: wrap;
}
.sheets legend {
  float: left;
  margin-right: 8px;
}
</style>
