<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, got, listed, type Schemas } from '../../api/client'
import DataList from '../../shared/tables/DataList.vue'
import { number } from '../../shared/formats'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import { useAction } from '../../shared/actions/useAction'
import { useSession } from '../../shared/actions/useSession'

const session = useSession()
const { data, error, isFetching } = useQuery({
  queryKey: ['groups'],
  queryFn: () => listed(api.GET('/api/v1/groups')),
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
const open = computed({
  get: () => changing.value !== null,
  set: (shown) => !shown && (changing.value = null),
})
const choices = computed(() =>
  (data.value ?? [])
    .filter((one) => one.id !== changing.value?.id)
    .map((one) => ({ title: one.name, value: one.id })),
)
const { busy, failure, run, forget } = useAction()

function edit(group: Schemas['Group']) {
  forget()
  changing.value = group
  inner.value = (data.value ?? [])
    .filter((one) => group.groups.includes(one.name))
    .map((one) => one.id)
}

async function save() {
  const done = await run(() =>
    got(
      api.PUT('/api/v1/groups/{group}/groups', {
        params: {
          path: { group: String(changing.value?.id) },
          header: { 'if-match': `"${changing.value?.revision}"` },
        },
        body: { groups: inner.value },
      }),
    ),
  )
  if (done) changing.value = null
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
      ><v-btn
        v-if="session.may('manage-people')"
        size="small"
        variant="text"
        color="primary"
        @click="edit(item)"
        >Groups in it</v-btn
      ></template
    >
  </DataList>
  <EditDialog
    v-model="open"
    :title="`Groups in ${changing?.name}`"
    label="Set the groups"
    :failure="failure"
    :busy="busy"
    :width="480"
    @save="save"
  >
    <v-select
      v-model="inner"
      :items="choices"
      label="Whoever is in these is in it"
      multiple
      chips
    />
  </EditDialog>
</template>
