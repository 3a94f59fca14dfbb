<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import DataList from '../../shared/DataList.vue'
import { number } from '../../shared/formats'
import ProblemAlert from '../../shared/ProblemAlert.vue'
import { useSession } from '../../shared/useSession'

const session = useSession()
const queries = useQueryClient()
const { data, error, isFetching } = useQuery({
  queryKey: ['groups'],
  queryFn: () => got(api.GET('/api/v1/groups')),
})
const columns = [
  { key: 'name', title: 'Group' },
  { key: 'people', title: 'People', number: true },
  { key: 'direct', title: 'Of them by name', number: true },
  { key: 'groups', title: 'Groups in it' },
  { key: 'act', title: '' },
]
const changing = ref<Schemas['Group'] | null>(null)
const inner = ref<number[]>([])
const failure = ref<unknown>(null)

function edit(group: Schemas['Group']) {
  failure.value = null
  changing.value = group
  inner.value = (data.value ?? [])
    .filter((one) => group.groups.includes(one.name))
    .map((one) => one.id)
}

async function save() {
  try {
    await got(
      api.PUT('/api/v1/groups/{group_id}/groups', {
        params: { path: { group_id: changing.value?.id ?? 0 } },
        body: { groups: inner.value },
      }),
    )
    changing.value = null
    await queries.invalidateQueries()
  } catch (problem) {
    failure.value = problem
  }
}
</script>

<template>
  <div class="page-head">
    <h1>Groups</h1>
    <span class="muted"
      >Groups come with <router-link to="/people">people</router-link>: by CSV, or pushed by an
      identity provider to <code>/scim/v2</code>.</span
    >
  </div>
  <DataList
    label="Groups"
    :columns="columns"
    :items="data ?? []"
    :row-key="(one) => one.id"
    :loading="isFetching"
    :error="error"
    empty="No groups yet."
  >
    <template #name="{ item }"
      ><strong>{{ item.name }}</strong></template
    >
    <template #people="{ item }"
      ><router-link :to="`/people?group=${encodeURIComponent(item.name)}`">{{
        number(item.people)
      }}</router-link></template
    >
    <template #direct="{ item }">{{ number(item.direct) }}</template>
    <template #groups="{ item }">{{ item.groups.join(', ') || '–' }}</template>
    <template #act="{ item }"
      ><v-btn v-if="session.changes" size="small" variant="text" color="primary" @click="edit(item)"
        >Groups in it</v-btn
      ></template
    >
  </DataList>
  <v-dialog
    :model-value="changing !== null"
    max-width="480"
    aria-label="Groups in a group"
    @update:model-value="changing = null"
  >
    <v-card>
      <v-card-title class="pt-4">Groups in {{ changing?.name }}</v-card-title>
      <v-card-text class="stack">
        <ProblemAlert :error="failure" />
        <v-select
          v-model="inner"
          :items="
            (data ?? [])
              .filter((one) => one.id !== changing?.id)
              .map((one) => ({ title: one.name, value: one.id }))
          "
          label="Whoever is in these is in it"
          multiple
          chips
        />
      </v-card-text>
      <v-card-actions
        ><v-spacer /><v-btn variant="text" @click="changing = null">Leave it</v-btn
        ><v-btn color="primary" variant="flat" @click="save">Set the groups</v-btn></v-card-actions
      >
    </v-card>
  </v-dialog>
</template>
