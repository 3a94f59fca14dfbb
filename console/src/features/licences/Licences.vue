<script setup lang="ts">
import { mdiFileChartOutline, mdiPlus } from '@mdi/js'
import { ref } from 'vue'

import type { Schemas } from '../../api/client'
import { useDocuments } from '../../shared/actions/useDocuments'
import { useSession } from '../../shared/actions/useSession'
import { number, onDay } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import PoolDialog from './PoolDialog.vue'
import PoolState from './PoolState.vue'

type Pool = Schemas['PoolDetail']
const session = useSession()
const pools = useDocuments<Schemas['Pool'], Pool>('/api/v1/pools')
const { data, error, isFetching } = pools.useList()
const columns = [
  { key: 'name', title: 'Pool' },
  { key: 'state', title: 'State' },
  { key: 'needed', title: 'Needed', number: true },
  { key: 'held', title: 'Seats', number: true },
  { key: 'free', title: 'Free', number: true },
  { key: 'ends_on', title: 'Seats end on' },
  { key: 'who', title: 'Who needs a seat' },
]
const open = ref(false)
</script>

<template>
  <div class="page-head">
    <h1>Licences</h1>
    <v-spacer />
    <v-btn variant="outlined" :prepend-icon="mdiFileChartOutline" to="/licences/report"
      >The month’s report</v-btn
    >
    <v-btn
      v-if="session.may('license')"
      color="primary"
      :prepend-icon="mdiPlus"
      @click="open = true"
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
      ><router-link :to="`/licences/${item.id}`"
        ><strong>{{ item.name }}</strong></router-link
      ></template
    >
    <template #state="{ item }"><PoolState :pool="item" /></template>
    <template #needed="{ item }"
      ><router-link :to="`/devices?pool=${item.id}`">{{
        number(item.needed)
      }}</router-link></template
    >
    <template #held="{ item }">{{ number(item.held) }}</template>
    <template #free="{ item }">{{ number(item.free) }}</template>
    <template #ends_on="{ item }">{{ onDay(item.ends_on) }}</template>
    <template #who="{ item }">
      <span v-if="item.filter" class="mono">{{ item.filter }}</span><template v-else
        >all devices in use</template
      ><template v-if="item.awaited_too">, awaited ones too</template>
    </template>
  </DataList>
  <PoolDialog v-model="open" :pool="null" />
</template>
