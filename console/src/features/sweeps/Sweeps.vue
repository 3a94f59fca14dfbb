<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { onMounted, reactive, ref } from 'vue'
import { useRoute } from 'vue-router'

import { api, got, type Schemas } from '../../api/client'
import { useDocuments } from '../../shared/actions/useDocuments'
import { usePreview } from '../../shared/actions/usePreview'
import { useSession } from '../../shared/actions/useSession'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import FilterField from '../../shared/filters/FilterField.vue'
import { atTime, number, plural } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import { usePages } from '../../shared/tables/usePages'

type Rule = Schemas['RuleDetail']
const NO_RULES =
  'No rules yet. A rule says after how many idle days a device is retired, ' +
  'once you have looked.'
const route = useRoute()
const session = useSession()
const preview = usePreview()
const rules = useDocuments<Schemas['Rule'], Rule>('/api/v1/sweep-rules')
const { busy, failure, forget } = rules
const { data, error, isFetching } = rules.useList()
const runs = usePages<Schemas['Sweep']>(['sweeps'], (cursor) =>
  got(api.GET('/api/v1/sweeps', { params: { query: { cursor } } })),
)
const ruleColumns = [
  { key: 'name', title: 'Rule' },
  { key: 'idle_window_days', title: 'Idle window', number: true },
  { key: 'who', title: 'Watches' },
  { key: 'notice', title: 'Notice', number: true },
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
  { key: 'watched', title: 'Watched', number: true },
  { key: 'act', title: '' },
]
const open = ref(false)
const changing = ref<Rule | null>(null)
const form = reactive({
  name: '',
  days: 90,
  filter: '',
  notice: '0',
  remind: '0',
  contacts: '',
  hours: '',
  brake: 5,
})
const lines = (text: string) =>
  text
    .split('\n')
    .map((line) => line.trim())
    .filter(Boolean)

function look(id: number) {
  const path = { key: String(id) }
  void preview.open({
    look: () => got(api.POST('/api/v1/sweep-rules/{key}/sweep/preview', { params: { path } })),
    act: (digest, reason) =>
      got(
        api.POST('/api/v1/sweep-rules/{key}/sweep/apply', {
          params: { path },
          body: { digest, reason },
        }),
      ),
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
  Object.assign(form, {
    name: rule?.name ?? '',
    days: rule?.idle_window_days ?? 90,
    filter: rule?.filter ?? '',
    notice: String(rule?.dormant_days ?? 0),
    remind: String(rule?.remind_days ?? 0),
    contacts: rule?.contacts?.join('\n') ?? '',
    hours: rule?.every_hours ? String(rule.every_hours) : '',
    brake: rule?.brake_percent ?? 5,
  })
  forget()
  open.value = true
}

function save() {
  const rule = {
    name: form.name,
    idle_window_days: Number(form.days),
    filter: form.filter.trim() || null,
    dormant_days: Number(form.notice || 0),
    remind_days: Number(form.remind || 0),
    contacts: lines(form.contacts),
    every_hours: form.hours === '' ? null : Number(form.hours),
    brake_percent: Number(form.brake),
  }
  const done = () => (open.value = false)
  void (changing.value ? rules.edit(changing.value, rule, done) : rules.add(rule, done))
}

onMounted(() => {
  if (route.query.rule) look(Number(route.query.rule))
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
  <EditDialog
    v-model="open"
    :title="changing ? `Change “${changing.name}”` : 'Add a rule'"
    label="Preview"
    :failure="failure"
    :busy="busy"
    :ready="form.name !== ''"
    :width="820"
    @save="save"
  >
    <v-text-field v-model="form.name" label="Rule" />
    <v-text-field v-model="form.days" label="Idle window (days)" type="number" />
    <FilterField v-model="form.filter" label="Devices in use that it watches (empty: all)" />
    <div class="pair">
      <v-text-field
        v-model="form.notice"
        label="Days dormant, with a mail, before it is retired (0: at once)"
        type="number"
        min="0"
        max="365"
      />
      <v-text-field
        v-model="form.remind"
        label="Mail again so many days before (0: not)"
        type="number"
        min="0"
      />
    </div>
    <v-textarea
      v-model="form.contacts"
      label="Who hears of it beside its person: SITE=ADDRESS, or an address for all; one a line"
      rows="2"
      auto-grow
    />
    <div class="pair">
      <v-text-field
        v-model="form.hours"
        label="Runs every so many hours (empty: by hand)"
        type="number"
        min="1"
        max="168"
      />
      <v-text-field
        v-model="form.brake"
        label="Brake (%): a greater share stops and asks"
        type="number"
      />
    </div>
  </EditDialog>
</template>

<style scoped>
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 12px;
}
@media (max-width: 700px) {
  .pair {
    grid-template-columns: 1fr;
  }
}
</style>
