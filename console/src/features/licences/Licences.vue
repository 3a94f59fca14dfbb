<script setup lang="ts">
import { mdiAlertOutline, mdiCheckCircleOutline, mdiPlus } from '@mdi/js'
import { reactive, ref } from 'vue'

import type { Schemas } from '../../api/client'
import { useDocuments } from '../../shared/actions/useDocuments'
import { useSession } from '../../shared/actions/useSession'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import FilterField from '../../shared/filters/FilterField.vue'
import { number } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'

type Pool = Schemas['PoolDetail']
const session = useSession()
const pools = useDocuments<Schemas['Pool'], Pool>('/api/v1/pools')
const { busy, failure, forget } = pools
const { data, error, isFetching } = pools.useList()
const columns = [
  { key: 'name', title: 'Pool' },
  { key: 'state', title: 'State' },
  { key: 'needed', title: 'Needed', number: true },
  { key: 'seats', title: 'Seats', number: true },
  { key: 'free', title: 'Free', number: true },
  { key: 'who', title: 'Who needs a seat' },
  { key: 'act', title: '' },
]
const open = ref(false)
const changing = ref<Pool | null>(null)
const form = reactive({ name: '', seats: '', filter: '', awaited_too: false })

function edit(pool: Pool | null) {
  changing.value = pool
  Object.assign(form, {
    name: pool?.name ?? '',
    seats: String(pool?.seats ?? ''),
    filter: pool?.filter ?? '',
    awaited_too: pool?.awaited_too ?? false,
  })
  forget()
  open.value = true
}

function save() {
  const pool = {
    name: form.name,
    seats: Number(form.seats),
    filter: form.filter.trim() || null,
    awaited_too: form.awaited_too,
  }
  const done = () => (open.value = false)
  void (changing.value ? pools.edit(changing.value, pool, done) : pools.add(pool, done))
}
</script>

<template>
  <div class="page-head">
    <h1>Licences</h1>
    <v-btn v-if="session.may('license')" color="primary" :prepend-icon="mdiPlus" @click="edit(null)"
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
    <template #act="{ item }">
      <span v-if="session.may('license')" class="nowrap">
        <v-btn size="small" variant="text" color="primary" @click="edit(item)">Change</v-btn>
        <v-btn size="small" variant="text" color="error" @click="pools.remove(item)">Remove</v-btn>
      </span>
    </template>
  </DataList>
  <EditDialog
    v-model="open"
    :title="changing ? `Change ${changing.name}` : 'Add a pool'"
    label="Preview"
    :failure="failure"
    :busy="busy"
    :ready="form.name !== '' && form.seats !== ''"
    :width="820"
    @save="save"
  >
    <v-text-field v-model="form.name" label="Product" />
    <v-text-field v-model="form.seats" label="Seats" type="number" min="0" />
    <FilterField v-model="form.filter" label="Devices in use that need a seat (empty: all)" />
    <v-checkbox v-model="form.awaited_too" label="Devices that have not arrived take a seat too" />
  </EditDialog>
</template>
