<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, listed, type Schemas } from '../../api/client'
import { useDocuments } from '../../shared/actions/useDocuments'
import { useSession } from '../../shared/actions/useSession'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import FilterField from '../../shared/filters/FilterField.vue'
import { number, onDay } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import { vFirst } from '../../shared/fields/first'

const router = useRouter()
const session = useSession()
const cohorts = useDocuments<Schemas['Cohort'], Schemas['CohortDetail']>('/api/v1/cohorts')
const { busy, failure, forget } = cohorts
const { data, error, isFetching } = useQuery({
  queryKey: ['cohorts'],
  queryFn: () => listed(api.GET('/api/v1/cohorts')),
  refetchInterval: 10_000,
})
const columns = [
  { key: 'name', title: 'Cohort' },
  { key: 'devices', title: 'Devices', number: true },
  { key: 'filter', title: 'Who is in it' },
  { key: 'created_at', title: 'Made' },
]
const open = ref(false)
const form = reactive({ name: '', note: '', filter: '', list: false })
const ready = computed(() => form.name !== '' && (form.list || form.filter.trim() !== ''))

function add() {
  Object.assign(form, { name: '', note: '', filter: '', list: false })
  forget()
  open.value = true
}

function save() {
  const cohort = {
    name: form.name,
    note: form.note || null,
    filter: form.list ? null : form.filter,
  }
  void cohorts.add(cohort, (made) => {
    open.value = false
    void router.push(`/cohorts/${made.id}`)
  })
}
</script>

<template>
  <div class="page-head">
    <h1>Cohorts</h1>
    <v-btn v-if="session.may('sort')" color="primary" :prepend-icon="mdiPlus" @click="add"
      >Add a cohort</v-btn
    >
  </div>
  <DataList
    label="Cohorts"
    :columns="columns"
    :items="data ?? []"
    :row-key="(one) => one.id"
    :to="(one) => `/cohorts/${one.id}`"
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
  <EditDialog
    v-model="open"
    title="A new cohort"
    label="Preview the cohort"
    :failure="failure"
    :busy="busy"
    :ready="ready"
    :width="820"
    @save="save"
  >
    <v-text-field v-model="form.name" label="Name" v-first />
    <v-radio-group v-model="form.list" inline hide-details label="Its devices">
      <v-radio label="by filter, kept right by themselves" :value="false" />
      <v-radio label="by list, put in by hand" :value="true" />
    </v-radio-group>
    <FilterField v-if="!form.list" v-model="form.filter" />
    <v-text-field v-model="form.note" label="What it is for" />
  </EditDialog>
</template>
