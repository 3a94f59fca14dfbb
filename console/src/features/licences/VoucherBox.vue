<script setup lang="ts">
import { ref } from 'vue'

import { api, got, type Schemas, sendFile } from '../../api/client'
import { useAction } from '../../shared/actions/useAction'
import { usePreview } from '../../shared/actions/usePreview'
import { useSession } from '../../shared/actions/useSession'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { called, number, onDay, plural } from '../../shared/formats'
import { actMeaning, actTitle } from './acts'

/** A voucher for a pool: pasted, dropped or typed by a scanner; then both outcomes. */
const { pool } = defineProps<{ pool: Schemas['PoolDetail'] }>()
const session = useSession()
const preview = usePreview()
const { label } = useVocabulary()
const { busy, failure, run, forget } = useAction()
const text = ref('')
const found = ref<Schemas['Comparison'] | null>(null)
const way = (act: Schemas['Act']) => actTitle(label('act', act))
const meaning = (act: Schemas['Act']) => actMeaning(label('act', act))

function compare() {
  void run(async () => {
    found.value = null
    found.value = await got(
      api.POST('/api/v1/pools/{key}/compare', {
        params: { path: { key: String(pool.id) } },
        body: { text: text.value },
      }),
    )
  }, false)
}

async function take(file: File | File[] | null | undefined) {
  const one = Array.isArray(file) ? file[0] : file
  if (!one) return
  if (one.type.startsWith('image/')) {
    await run(async () => {
      const found = await sendFile<Schemas['VoucherText']>('/vouchers/picture', [], one, one.type)
      text.value = found.text
    }, false)
    if (failure.value) return
  } else text.value = await one.text()
  compare()
}

function drop(event: DragEvent) {
  void take(event.dataTransfer?.files[0])
}

function clear() {
  text.value = ''
  found.value = null
  forget()
}

function use(act: Schemas['Act']) {
  const path = { key: String(pool.id) }
  const body = { text: text.value, act }
  void preview.open({
    look: () => got(api.POST('/api/v1/pools/{key}/grants/preview', { params: { path }, body })),
    act: (digest, reason) =>
      got(
        api.POST('/api/v1/pools/{key}/grants/apply', {
          params: { path },
          body: { ...body, digest, reason },
        }),
      ),
    done: clear,
  })
}

defineExpose({
  /** Put a voucher in, and compare it. */
  put(token: string) {
    text.value = token
    compare()
  },
})

const lines: [string, (one: Schemas['PoolOutcome']) => string][] = [
  ['State', (one) => label('pool_state', one.state)],
  ['Seats', (one) => number(one.held)],
  ['Seats end on', (one) => onDay(one.ends_on)],
  ['The end moves', (one) => moved(one.moved_days)],
  ['Seat-days left', (one) => number(one.seat_days)],
  ['Devices without a seat', (one) => number(one.uncovered)],
  ['First day without', (one) => (one.uncovered_on ? onDay(one.uncovered_on) : 'none')],
  ['Device-days without', (one) => number(one.without)],
  ['Seat-days that nobody uses', (one) => number(one.unused)],
]

function moved(days: number | null): string {
  if (days === null) return '–'
  if (days === 0) return 'not'
  return `${plural(Math.abs(days), 'day')} ${days > 0 ? 'later' : 'sooner'}`
}

const isBad = (one: Schemas['PoolOutcome'], name: string) =>
  (['Devices without a seat', 'Device-days without'].includes(name) && one.uncovered > 0) ||
  (name === 'State' && ['short', 'lapsed'].includes(one.state))
</script>

<template>
  <v-card class="pa-3" @dragover.prevent @drop.prevent="drop">
    <h2>Use a voucher</h2>
    <v-textarea
      v-model="text"
      label="Paste it here, drop its file, mail or photo, or scan it"
      rows="2"
      class="mono"
      spellcheck="false"
      @keydown.enter.prevent="compare"
    />
    <div class="row-gap">
      <v-btn color="primary" :disabled="!text.trim()" :loading="busy" @click="compare"
        >Compare</v-btn
      >
      <v-file-input
        label="A file, a mail or a photo"
        accept=".txt,.jws,.eml,text/plain,message/rfc822,image/*"
        class="file"
        hide-details
        @update:model-value="take"
      />
      <v-btn v-if="text" variant="text" @click="clear">Clear</v-btn>
    </div>
    <ProblemAlert :error="failure" class="mt-3" />
    <template v-if="found">
      <p class="mt-3">
        {{ found.voucher.words }} {{ plural(found.needed, 'seat') }} needed now. It brings
        {{ number(found.gained) }} seat-days each way; only when they are used differs.
      </p>
      <div class="scroll">
        <table>
          <thead>
            <tr>
              <td></td>
              <th scope="col">Now</th>
              <th
                v-for="one in found.outcomes"
                :key="one.act"
                scope="col"
                :class="{ best: one.act === found.best }"
              >
                {{ way(one.act) }}
                <v-chip
                  v-if="found.outcomes.length > 1 && one.act === found.best"
                  size="x-small"
                  color="success"
                  >better</v-chip
                >
                <div class="muted">{{ meaning(one.act) }}</div>
              </th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="[name, value] in lines" :key="name">
              <th scope="row">
                {{ name
                }}<span v-if="name === 'Device-days without'" class="muted">
                  until {{ onDay(found.until) }}</span
                >
              </th>
              <td :class="{ 'tone-bad': isBad(found.now, name) }">{{ value(found.now) }}</td>
              <td
                v-for="one in found.outcomes"
                :key="one.act"
                :class="{ 'tone-bad': isBad(one, name), best: one.act === found.best }"
              >
                {{ value(one) }}
              </td>
            </tr>
            <tr v-if="session.may('license')">
              <td></td>
              <td></td>
              <td
                v-for="one in found.outcomes"
                :key="one.act"
                :class="{ best: one.act === found.best }"
              >
                <v-btn
                  size="small"
                  :color="one.act === found.best ? 'primary' : undefined"
                  :variant="one.act === found.best ? 'flat' : 'outlined'"
                  @click="use(one.act)"
                  >{{ way(one.act) }}</v-btn
                >
              </td>
            </tr>
          </tbody>
        </table>
      </div>
      <details v-if="found.latest.length" class="mt-2">
        <summary>
          Who took a seat last, and is without one where seats are too few ({{
            found.latest.length
          }}
          shown)
        </summary>
        <ul>
          <li v-for="one in found.latest" :key="one.id">
            <router-link :to="`/devices/${one.id}`">{{ called(one) }}</router-link><span
              class="muted"
              >, since {{ onDay(one.since)
              }}<template v-if="one.person_name">, {{ one.person_name }}</template
              ><template v-if="one.site">, {{ one.site }}</template></span
            >
          </li>
        </ul>
      </details>
    </template>
  </v-card>
</template>

<style scoped>
h2 {
  font-size: 1rem;
  margin-bottom: 8px;
}
.row-gap {
  display: flex;
  gap: 12px;
  align-items: center;
  flex-wrap: wrap;
}
.file {
  max-width: 320px;
}
.scroll {
  overflow-x: auto;
}
table {
  border-collapse: collapse;
  margin-top: 8px;
  min-width: 560px;
}
th,
td {
  text-align: left;
  vertical-align: top;
  padding: 4px 14px 4px 8px;
  border-bottom: 1px solid rgba(var(--v-border-color), 0.15);
}
th[scope='row'] {
  font-weight: 400;
}
thead .muted {
  font-weight: 400;
  max-width: 22em;
}
.best {
  background: rgba(var(--v-theme-success), 0.08);
}
</style>
