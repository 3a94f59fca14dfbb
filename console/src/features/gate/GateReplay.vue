<script setup lang="ts">
import { mdiDownload } from '@mdi/js'
import { computed, ref, watch } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import { saveFile } from '../../api/files'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import StageChip from '../../shared/tables/StageChip.vue'
import { useAction } from '../../shared/actions/useAction'
import { number } from '../../shared/formats'
import type { Policy } from './facets'
import { vReachable } from '../../shared/tables/reachable'

/** What the changes would have said to today's fleet and to the arrivals of the last weeks. */
const { policies } = defineProps<{ policies: Policy[] }>()
type Of = 'fleet' | 'arrivals'
interface Asked {
  of: Of
  outcome: Schemas['Outcome']
  reason: string
}
const { failure, busy, run } = useAction()
const replay = ref<Schemas['Replay'] | null>(null)
const asked = ref<Asked | null>(null)
const rows = ref<Schemas['Turned'][]>([])
const next = ref<string | null>(null)
watch(
  () => policies,
  () => {
    replay.value = null
    asked.value = null
  },
)
const body = computed(() => ({ policies }))
const sections = computed(() => {
  if (!replay.value) return []
  const { fleet, arrivals, days } = replay.value
  const past = `${number(arrivals.looked_at)} arrivals, as they were then`
  return [
    {
      of: 'fleet' as Of,
      title: `Today's fleet: ${number(fleet.looked_at)} devices in use`,
      found: fleet,
    },
    { of: 'arrivals' as Of, title: `The last ${days} days: ${past}`, found: arrivals },
  ]
})

function look() {
  asked.value = null
  return run(async () => {
    replay.value = await got(api.POST('/api/v1/gate/replay', { body: body.value }))
  }, false)
}

function list(wanted: Asked, cursor?: string) {
  return run(async () => {
    const page = await got(
      api.POST('/api/v1/gate/replay/list', {
        body: body.value,
        params: { query: { ...wanted, cursor, limit: 100 } },
      }),
    )
    rows.value = cursor ? [...rows.value, ...page.items] : page.items
    next.value = page.next ?? null
    asked.value = wanted
  }, false)
}

function take(form: 'csv' | 'xlsx') {
  return run(async () => {
    const query = { ...asked.value!, form }
    const content = await got(
      api.POST('/api/v1/gate/replay/file', {
        body: body.value,
        params: { query },
        parseAs: 'blob',
      }),
    )
    saveFile(content as unknown as Blob, `replay-${query.of}.${form}`)
  }, false)
}
</script>

<template>
  <v-card class="pa-4 stack">
    <div class="row-gap">
      <h2>What your changes would have done</h2>
      <v-spacer />
      <v-btn color="primary" variant="outlined" :loading="busy" @click="look">Replay</v-btn>
    </div>
    <p v-if="!replay" class="muted">
      Before you save: whom of today's devices, and which of the last arrivals, the gate as it
      stands above would have refused, parked or let in.
    </p>
    <ProblemAlert :error="failure" />
    <div v-for="section in sections" :key="section.of" aria-live="polite">
      <h3>{{ section.title }}</h3>
      <p v-if="!section.found.tallies.length" class="muted">Nothing would differ.</p>
      <table v-else class="tallies">
        <caption class="visually-hidden">
          {{
            section.title
          }}
        </caption>
        <tbody>
          <tr v-for="tally in section.found.tallies" :key="tally.outcome + tally.code">
            <td class="number">
              <a
                href="#"
                @click.prevent="
                  list({ of: section.of, outcome: tally.outcome, reason: tally.code })
                "
                >{{ number(tally.number) }}</a
              >
            </td>
            <td><StageChip :stage="tally.outcome" /></td>
            <td>{{ tally.explanation }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="replay?.without_facts" class="muted">
      {{ number(replay.without_facts) }} arrivals are from before their facts were kept; they were
      not looked at.
    </p>
    <template v-if="asked">
      <div class="row-gap">
        <h3>{{ asked.of === 'fleet' ? 'Devices' : 'Arrivals' }} of this reason</h3>
        <v-spacer />
        <v-btn variant="text" :prepend-icon="mdiDownload" @click="take('csv')">CSV</v-btn>
        <v-btn variant="text" :prepend-icon="mdiDownload" @click="take('xlsx')">XLSX</v-btn>
      </div>
      <div class="list" tabindex="0" role="region" aria-label="The list">
        <v-table v-reachable="'What would differ'" density="compact">
          <thead>
            <tr>
              <th>Device</th>
              <th>Person</th>
              <th>Site</th>
              <th>Now</th>
              <th>Then</th>
              <th>Why</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="row in rows" :key="row.id">
              <td>
                <router-link v-if="row.device_id" :to="`/devices/${row.device_id}`">{{
                  row.subject
                }}</router-link>
                <template v-else>{{ row.subject }}</template>
              </td>
              <td>{{ row.person ?? '–' }}</td>
              <td>{{ row.site ?? '–' }}</td>
              <td>{{ row.before }}</td>
              <td>{{ row.after }}</td>
              <td>{{ row.explanation }}</td>
            </tr>
          </tbody>
        </v-table>
      </div>
      <v-btn v-if="next" variant="text" @click="list(asked, next)">More</v-btn>
    </template>
  </v-card>
</template>

<style scoped>
h3 {
  font-size: 0.95rem;
  font-weight: 600;
}
.tallies td {
  padding: 2px 10px 2px 0;
  vertical-align: top;
}
.list {
  max-height: 360px;
  overflow: auto;
}
</style>
