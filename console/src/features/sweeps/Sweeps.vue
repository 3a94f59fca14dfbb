<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { onMounted, ref } from 'vue'
import { useRoute } from 'vue-router'

import { api, got, type Schemas } from '../../api/client'
import { useDocuments } from '../../shared/actions/useDocuments'
import { useHold } from '../../shared/actions/useHold'
import { usePreview } from '../../shared/actions/usePreview'
import { useSession } from '../../shared/actions/useSession'
import { atTime, number, plural } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import { usePages } from '../../shared/tables/usePages'
import ErasureList from './ErasureList.vue'
import HoldList from './HoldList.vue'
import RuleDialog from './RuleDialog.vue'

type Rule = Schemas['RuleDetail']
const NO_RULES =
  'No rules yet. A rule says after how many idle days a device is retired, ' +
  'once you have looked.'
const route = useRoute()
const session = useSession()
const preview = usePreview()
const hold = useHold()
const rules = useDocuments<Schemas['Rule'], Rule>('/api/v1/sweep-rules')
const { data, error, isFetching } = rules.useList()
const runs = usePages<Schemas['Sweep']>(['sweeps'], (cursor) =>
  got(api.GET('/api/v1/sweeps', { params: { query: { cursor } } })),
)
const ruleColumns = [
  { key: 'name', title: 'Rule' },
  { key: 'idle_window_days', title: 'Idle window', number: true },
  { key: 'who', title: 'Watches' },
  { key: 'notice', title: 'Notice', number: true },
  { key: 'retention', title: 'Erased', number: true },
  { key: 'when', title: 'Runs' },
  { key: 'brake_percent', title: 'Brake', number: true },
  { key: 'act', title: '' },
]
const runColumns = [
  { key: 'at', title: 'At' },
  { key: 'rule_name', title: 'Rule' },
  { key: 'by', title: 'By' },
  { key: 'state', title: 'State' },
  { key: 'retired', title: 'Retired', number: true },
  { key: 'dormant', title: 'Notice', number: true },
  { key: 'held', title: 'Held', number: true },
  { key: 'watched', title: 'Watched', number: true },
  { key: 'act', title: '' },
]
const open = ref(false)
const changing = ref<Rule | null>(null)
function look(id: number) {
  const path = { key: String(id) }
  void preview.open({
    look: () => got(api.POST('/api/v1/sweep-rules/{key}/sweep/preview', { params: { path } })),
    keep: (ids) => hold.open({ selection: { ids } }, plural(ids.length, 'device'), () => look(id)),
    act: (digest, reason) =>
      got(
        api.POST('/api/v1/sweep-rules/{key}/sweep/apply', {
          params: { path },
          body: { digest, reason },
        }),
      ),
  })
}

function lookAtErasure(id: number) {
  const path = { key: String(id) }
  void preview.open({
    look: () => got(api.POST('/api/v1/sweep-rules/{key}/erasure/preview', { params: { path } })),
    act: (digest, reason, _, confirm) =>
      got(
        api.POST('/api/v1/sweep-rules/{key}/erasure/apply', {
          params: { path },
          body: { digest, reason, confirm },
        }),
      ),
    final: true,
  })
}

function revert(run: Schemas['Sweep']) {
  const path = { sweep_id: run.id }
  void preview.open({
    look: () => got(api.POST('/api/v1/sweeps/{sweep_id}/revert/preview', { params: { path } })),
    act: (digest, reason) =>
      got(
        api.POST('/api/v1/sweeps/{sweep_id}/revert', {
          params: { path },
          body: { digest, reason },
        }),
      ),
  })
}

function edit(rule: Rule | null) {
  changing.value = rule
  open.value = true
}

onMounted(() => {
  if (route.query.rule) look(Number(route.query.rule))
  if (route.query.erasure) lookAtErasure(Number(route.query.erasure))
  if (route.query.tab === 'holds') document.getElementById('holds')?.scrollIntoView()
})
</script>

<template>
  <div class="page-head">
    <h1>Sweeps</h1>
    <v-btn v-if="session.may('sweep')" color="primary" :prepend-icon="mdiPlus" @click="edit(null)"
      >Add a rule</v-btn
    >
  </div>
  <DataList
    label="Sweep rules"
    :columns="ruleColumns"
    :items="data ?? []"
    :row-key="(rule) => rule.id"
    :loading="isFetching"
    :error="error"
    :empty="NO_RULES"
  >
    <template #name="{ item }"
      ><strong>{{ item.name }}</strong></template
    >
    <template #idle_window_days="{ item }">{{ item.idle_window_days }} days</template>
    <template #who="{ item }"
      ><span v-if="item.filter" class="mono">{{ item.filter }}</span
      ><template v-else>everything in use</template></template
    >
    <template #notice="{ item }">{{
      item.dormant_days ? plural(item.dormant_days, 'day') : 'none'
    }}</template>
    <template #retention="{ item }"
      ><v-btn
        v-if="item.retention_days"
        size="small"
        variant="text"
        color="primary"
        @click="lookAtErasure(item.id)"
        >after {{ plural(item.retention_days, 'day') }}</v-btn
      ><template v-else>never</template></template
    >
    <template #when="{ item }">{{
      item.every_hours ? `every ${plural(item.every_hours, 'hour')}` : 'by hand'
    }}</template>
    <template #brake_percent="{ item }">{{ item.brake_percent }} %</template>
    <template #act="{ item }">
      <span class="nowrap">
        <v-btn
          v-if="session.may('sweep')"
          size="small"
          variant="text"
          color="primary"
          @click="edit(item)"
          >Change</v-btn
        >
        <v-btn
          v-if="session.may('sweep')"
          size="small"
          variant="text"
          color="error"
          @click="rules.remove(item)"
          >Remove</v-btn
        >
        <v-btn size="small" variant="outlined" color="primary" @click="look(item.id)"
          >Preview the sweep</v-btn
        >
      </span>
    </template>
  </DataList>
  <h2 class="mt-6 mb-2">Runs</h2>
  <DataList
    label="Sweep runs"
    :columns="runColumns"
    :items="runs.items.value"
    :row-key="(run) => run.id"
    :loading="runs.isFetching.value"
    :error="runs.error.value"
    :more="runs.hasNextPage.value"
    empty="No sweeps yet."
    @more="runs.fetchNextPage()"
  >
    <template #at="{ item }">{{ atTime(item.at) }}</template>
    <template #state="{ item }"
      ><v-chip :color="{ applied: 'success', braked: 'warning' }[item.state]">{{
        item.state === 'braked' ? 'stopped, asks' : item.state
      }}</v-chip>
      <div v-if="item.why" class="muted">{{ item.why }}</div></template
    >
    <template #retired="{ item }"
      ><router-link v-if="item.entry_id" :to="`/journal?entry=${item.entry_id}`">{{
        number(item.retired)
      }}</router-link
      ><template v-else>{{ number(item.retired) }}</template></template
    >
    <template #dormant="{ item }">{{ number(item.dormant) }}</template>
    <template #held="{ item }">{{ number(item.held) }}</template>
    <template #watched="{ item }">{{ number(item.watched) }}</template>
    <template #act="{ item }"
      ><v-btn
        v-if="session.may('revert') && item.state === 'applied'"
        size="small"
        variant="text"
        color="primary"
        @click="revert(item)"
        >Preview the revert</v-btn
      ></template
    >
  </DataList>
  <HoldList />
  <ErasureList />
  <RuleDialog v-model="open" :rule="changing" />
</template>
