<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { reactive, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, got, type Schemas } from '../../api/client'
import DataList from '../../shared/DataList.vue'
import FilterField from '../../shared/FilterField.vue'
import { number, onDay } from '../../shared/formats'
import ProblemAlert from '../../shared/ProblemAlert.vue'
import { usePreview } from '../../shared/usePreview'
import { useSession } from '../../shared/useSession'

const router = useRouter()
const session = useSession()
const preview = usePreview()
const { data, error, isFetching } = useQuery({
  queryKey: ['cohorts'],
  queryFn: () => got(api.GET('/api/v1/cohorts')),
  refetchInterval: 10_000,
})
const columns = [
  { key: 'name', title: 'Cohort' },
  { key: 'devices', title: 'Devices', number: true },
  { key: 'filter', title: 'Who is in it' },
  { key: 'created_at', title: 'Made' },
]
const open = ref(false)
const failure = ref<unknown>(null)
const form = reactive({ name: '', note: '', filter: '', list: false })
let made: Schemas['Cohort'] | null = null

function add() {
  failure.value = null
  Object.assign(form, { name: '', note: '', filter: '', list: false })
  open.value = true
}

async function save(digest: string | null, reason: string | null) {
  made = await got(
    api.POST('/api/v1/cohorts', {
      body: {
        name: form.name,
        note: form.note || null,
        filter: form.list ? null : form.filter,
        digest,
        reason,
      },
    }),
  )
}

async function look() {
  failure.value = null
  if (form.list) {
    try {
      await save(null, null)
      open.value = false
      await router.push(`/cohorts/${made?.id}`)
    } catch (problem) {
      failure.value = problem
    }
    return
  }
  open.value = false
  void preview.open({
    look: () => got(api.POST('/api/v1/cohorts/preview', { body: { filter: form.filter } })),
    act: (digest, reason) => save(digest, reason),
    done: () => void router.push(`/cohorts/${made?.id}`),
  })
}
</script>

<template>
  <div class="page-head">
    <h1>Cohorts</h1>
    <v-btn v-if="session.changes" color="primary" :prepend-icon="mdiPlus" @click="add"
      >Add a cohort</v-btn
    >
  </div>
  <DataList
    label="Cohorts"
    :columns="columns"
    :items="data ?? []"
    :row-key="(one) => one.id"
    :loading="isFetching && !data"
    :error="error"
  >
    <template #name="{ item }"
      ><router-link :to="`/cohorts/${item.id}`"
        ><strong>{{ item.name }}</strong></router-link
      >
      <div v-if="item.note" class="muted">{{ item.note }}</div></template
    >
    <template #devices="{ item }"
      ><router-link :to="`/devices?cohort=${item.id}`">{{
        number(item.devices)
      }}</router-link></template
    >
    <template #filter="{ item }">
      <span v-if="item.filter" class="mono">{{ item.filter }}</span><span v-else class="muted"
        >a list, by hand</span
      >
      <v-chip
        v-if="item.moving"
        class="ml-2"
        title="Days pass, so devices enter and leave by themselves"
        >moves with time</v-chip
      >
    </template>
    <template #created_at="{ item }"
      ><span class="nowrap">{{ onDay(item.created_at) }}</span>
      <span class="muted">{{ item.created_by }}</span></template
    >
    <template #empty
      >No cohorts yet. A cohort is a set of devices that others speak of: pools, sweeps, lists. By
      filter, devices enter and leave it the moment a fact changes.</template
    >
  </DataList>
  <v-dialog v-model="open" max-width="820" aria-label="A new cohort">
    <v-card>
      <v-card-title class="pt-4">A new cohort</v-card-title>
      <v-card-text class="stack">
        <ProblemAlert :error="failure" />
        <v-text-field v-model="form.name" label="Name" autofocus />
        <v-radio-group v-model="form.list" inline hide-details label="Its devices">
          <v-radio label="by filter, kept right by themselves" :value="false" /><v-radio
            label="by list, put in by hand"
            :value="true"
          />
        </v-radio-group>
        <FilterField v-if="!form.list" v-model="form.filter" />
        <v-text-field v-model="form.note" label="What it is for" />
      </v-card-text>
      <v-card-actions>
        <v-spacer /><v-btn variant="text" @click="open = false">Leave it</v-btn>
        <v-btn
          color="primary"
          variant="flat"
          :disabled="!form.name || (!form.list && !form.filter.trim())"
          @click="look"
          >{{ form.list ? 'Add the list' : 'Preview the cohort' }}</v-btn
        >
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>
