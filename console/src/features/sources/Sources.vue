<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { ref } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import { useDocuments } from '../../shared/actions/useDocuments'
import { useSession } from '../../shared/actions/useSession'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import { age, atTime, number } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import SourceDialog from './SourceDialog.vue'
import StateChip from './StateChip.vue'
import { endWords, knows } from './sources'

type Source = Schemas['SourceDetail']
const session = useSession()
const { label } = useVocabulary()
const sources = useDocuments<Schemas['Source'], Source>('/api/v1/sources')
const { data, error, isFetching } = sources.useList()
const { data: today } = useQuery({
  queryKey: ['today'],
  queryFn: () => got(api.GET('/api/v1/today')),
})
const open = ref(false)
const columns = [
  { key: 'name', title: 'Source' },
  { key: 'kind', title: 'Kind' },
  { key: 'state', title: 'State' },
  { key: 'good_at', title: 'Last read' },
  { key: 'next_at', title: 'Next run' },
  { key: 'knows', title: 'Knows' },
  { key: 'unknown', title: 'Unknown here', number: true },
  { key: 'ends', title: 'Credential' },
]
const EMPTY =
  'No sources yet. Add the directory, the suppliers’ registries, and the lists of other systems: ' +
  'what they know is read, kept with its age, and compared with the fleet.'
</script>

<template>
  <div class="page-head">
    <h1>Sources</h1>
    <v-btn variant="text" to="/levels">Levels</v-btn>
    <v-btn
      v-if="session.may('connect')"
      color="primary"
      :prepend-icon="mdiPlus"
      @click="open = true"
      >Add a source</v-btn
    >
  </div>
  <DataList
    label="Sources"
    :columns="columns"
    :items="data ?? []"
    :row-key="(source) => source.id"
    :loading="isFetching"
    :error="error"
    :empty="EMPTY"
  >
    <template #name="{ item }"
      ><router-link :to="`/sources/${item.id}`"
        ><strong>{{ item.name }}</strong></router-link
      ></template
    >
    <template #kind="{ item }">{{ label('source_kind', item.kind) }}</template>
    <template #state="{ item }"><StateChip :source="item" /></template>
    <template #good_at="{ item }"
      ><span v-if="item.good_at && today" :title="atTime(item.good_at)"
        >{{ age(item.good_at, today.now) }} ago</span
      ><template v-else>never</template></template
    >
    <template #next_at="{ item }">{{ item.next_at ? atTime(item.next_at) : 'by hand' }}</template>
    <template #knows="{ item }">{{ knows(item) }}</template>
    <template #unknown="{ item }"
      ><router-link v-if="item.unknown" :to="`/levels?source=${item.id}&kind=unknown`">{{
        number(item.unknown)
      }}</router-link
      ><template v-else>–</template></template
    >
    <template #ends="{ item }"
      ><span :class="{ 'tone-bad': endWords(item).late }">{{ endWords(item).text }}</span></template
    >
  </DataList>
  <SourceDialog v-model="open" :source="null" />
</template>
