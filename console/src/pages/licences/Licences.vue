<script setup lang="ts">
import { mdiAlertOutline, mdiCheckCircleOutline, mdiPlus } from '@mdi/js'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { reactive, ref } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import DataList from '../../shared/DataList.vue'
import FilterField from '../../shared/FilterField.vue'
import { number } from '../../shared/formats'
import ProblemAlert from '../../shared/ProblemAlert.vue'
import { useSession } from '../../shared/useSession'

type Pool = Schemas['Pool']
const session = useSession()
const queries = useQueryClient()
const { data, error, isFetching } = useQuery({
  queryKey: ['pools'],
  queryFn: () => got(api.GET('/api/v1/pools')),
})
const columns = [
  { key: 'name', title: 'Pool' },
  { key: 'state', title: 'State' },
  { key: 'needed', title: 'Needed', number: true },
  { key: 'seats', title: 'Held', number: true },
  { key: 'free', title: 'Free', number: true },
  { key: 'who', title: 'Who needs a seat' },
  { key: 'act', title: '' },
]
const open = ref(false)
const failure = ref<unknown>(null)
const form = reactive({
  pool: null as Pool | null,
  name: '',
  seats: '',
  filter: '',
  awaited_too: false,
})

function edit(pool: Pool | null) {
  failure.value = null
  Object.assign(form, {
    pool,
    name: pool?.name ?? '',
    seats: String(pool?.seats ?? ''),
    filter: pool?.filter ?? '',
    awaited_too: pool?.awaited_too ?? false,
  })
  open.value = true
}

async function save() {
  failure.value = null
  const body = {
    name: form.name,
    seats: Number(form.seats),
    filter: form.filter.trim() || null,
    awaited_too: form.awaited_too,
  }
  try {
    if (form.pool)
      await got(
        api.PUT('/api/v1/pools/{pool_id}', {
          params: {
            path: { pool_id: form.pool.id },
            header: { 'if-match': `"${form.pool.revision}"` },
          },
          body,
        }),
      )
    else await got(api.POST('/api/v1/pools', { body }))
    open.value = false
    await queries.invalidateQueries()
  } catch (problem) {
    failure.value = problem
  }
}
</script>

<template>
  <div class="page-head">
    <h1>Licences</h1>
    <v-btn v-if="session.changes" color="primary" :prepend-icon="mdiPlus" @click="edit(null)"
      >Add a pool</v-btn
    >
  </div>
  <DataList
    label="Licence pools"
    :columns="columns"
    :items="data ?? []"
    :row-key="(pool) => pool.id"
    :loading="isFetching"
    :error="error"
    empty="No pools yet: add one for each licence that counts devices."
  >
    <template #name="{ item }"
      ><strong>{{ item.name }}</strong></template
    >
    <template #state="{ item }">
      <v-chip
        :color="item.state === 'short' ? 'error' : 'success'"
        :prepend-icon="item.state === 'short' ? mdiAlertOutline : mdiCheckCircleOutline"
      >
        {{ item.state === 'short' ? `short of ${number(item.needed - item.seats)}` : 'covered' }}
      </v-chip>
    </template>
    <template #needed="{ item }"
      ><router-link :to="`/devices?pool=${item.id}`">{{
        number(item.needed)
      }}</router-link></template
    >
    <template #seats="{ item }">{{ number(item.seats) }}</template>
    <template #free="{ item }">{{ number(item.free) }}</template>
    <template #who="{ item }">
      <span v-if="item.filter" class="mono">{{ item.filter }}</span><template v-else
        >all devices in use</template
      ><template v-if="item.awaited_too">, awaited ones too</template>
      <div v-if="item.state === 'short'" class="muted">
        Ways back: buy seats, narrow the pool, or
        <router-link :to="`/devices?pool=${item.id}&idle=90`">look at who takes one</router-link>
        and <router-link to="/sweeps">sweep</router-link>.
      </div>
    </template>
    <template #act="{ item }"
      ><v-btn v-if="session.changes" size="small" variant="text" color="primary" @click="edit(item)"
        >Change</v-btn
      ></template
    >
  </DataList>
  <v-dialog v-model="open" max-width="820" aria-label="Licence pool">
    <v-card>
      <v-card-title class="pt-4">{{
        form.pool ? `Change ${form.pool.name}` : 'Add a pool'
      }}</v-card-title>
      <v-card-text class="stack">
        <ProblemAlert :error="failure" />
        <v-text-field v-model="form.name" label="Product" />
        <v-text-field v-model="form.seats" label="Seats held" type="number" min="0" />
        <FilterField v-model="form.filter" label="Devices in use that need a seat (empty: all)" />
        <v-checkbox
          v-model="form.awaited_too"
          label="Devices that have not arrived take a seat too"
        />
      </v-card-text>
      <v-card-actions>
        <v-spacer /><v-btn variant="text" @click="open = false">Leave it</v-btn>
        <v-btn
          color="primary"
          variant="flat"
          :disabled="!form.name || form.seats === ''"
          @click="save"
          >{{ form.pool ? 'Change the pool' : 'Add the pool' }}</v-btn
        >
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>
