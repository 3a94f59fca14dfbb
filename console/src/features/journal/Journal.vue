<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, got, type Schemas } from '../../api/client'
import DataList from '../../shared/tables/DataList.vue'
import { atTime } from '../../shared/formats'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { usePages } from '../../shared/tables/usePages'
import { usePreview } from '../../shared/actions/usePreview'
import { useSession } from '../../shared/actions/useSession'

const route = useRoute()
const router = useRouter()
const session = useSession()
const preview = usePreview()
const kinds = [
  { title: 'Lots', value: 'lot' },
  { title: 'Devices', value: 'device' },
  { title: 'Gate', value: 'gate' },
  { title: 'Names', value: 'naming' },
  { title: 'People', value: 'people' },
  { title: 'Passes', value: 'pass' },
  { title: 'Licences', value: 'pool' },
  { title: 'Sweeps', value: 'sweep' },
  { title: 'Rules', value: 'rule' },
  { title: 'Holds', value: 'hold' },
  { title: 'Accounts', value: 'account' },
  { title: 'Tokens', value: 'token' },
]
const operation = computed(() =>
  route.query.operation ? String(route.query.operation) : undefined,
)
const chosen = computed(() => (route.query.entry ? Number(route.query.entry) : null))
const { items, error, isFetching, hasNextPage, fetchNextPage } = usePages<Schemas['Entry']>(
  () => ['journal', operation.value],
  (cursor) =>
    got(api.GET('/api/v1/journal', { params: { query: { operation: operation.value, cursor } } })),
)
const { data: entry, error: entryError } = useQuery({
  queryKey: computed(() => ['entry', chosen.value]),
  enabled: computed(() => chosen.value !== null),
  queryFn: () =>
    got(
      api.GET('/api/v1/journal/{entry_id}', { params: { path: { entry_id: chosen.value ?? 0 } } }),
    ),
})
const columns = [
  { key: 'id', title: 'Entry', number: true },
  { key: 'at', title: 'At' },
  { key: 'actor', title: 'By' },
  { key: 'summary', title: 'What' },
  { key: 'reason', title: 'Why' },
  { key: 'state', title: '' },
]
const json = (value: unknown) => JSON.stringify(value, null, 2)

function revert(id: number) {
  const path = { entry_id: id }
  void preview.open({
    look: () => got(api.POST('/api/v1/journal/{entry_id}/revert/preview', { params: { path } })),
    act: (digest, reason) =>
      got(
        api.POST('/api/v1/journal/{entry_id}/revert', {
          params: { path },
          body: { digest, reason },
        }),
      ),
  })
}
</script>

<template>
  <div class="page-head">
    <h1>Journal</h1>
    <v-select
      :model-value="operation"
      :items="kinds"
      label="About"
      clearable
      class="about"
      @update:model-value="router.push({ query: { operation: $event ?? undefined } })"
    />
  </div>
  <ProblemAlert :error="entryError" />
  <v-card v-if="entry && chosen" class="pa-4 mb-3">
    <div class="row-gap">
      <h2>{{ entry.id }} · {{ entry.summary }}</h2>
      <v-chip v-if="entry.reverted_by">reverted by {{ entry.reverted_by }}</v-chip>
      <v-spacer />
      <v-btn
        v-if="session.may('revert') && !entry.reverted_by && !entry.reverts"
        size="small"
        variant="outlined"
        color="primary"
        @click="revert(entry.id)"
        >Preview taking it back</v-btn
      >
      <v-btn
        size="small"
        variant="text"
        @click="router.push({ query: { ...route.query, entry: undefined } })"
        >Close</v-btn
      >
    </div>
    <p class="muted">
      {{ atTime(entry.at) }} by {{ entry.actor
      }}<template v-if="entry.reason">: “{{ entry.reason }}”</template> · {{ entry.operation }} ·
      request {{ entry.request_id ?? '–' }}
    </p>
    <div class="halves">
      <div v-if="entry.before !== null">
        <h3 class="muted">Before</h3>
        <pre class="mono">{{ json(entry.before) }}</pre>
      </div>
      <div v-if="entry.after !== null">
        <h3 class="muted">After</h3>
        <pre class="mono">{{ json(entry.after) }}</pre>
      </div>
    </div>
    <template v-if="entry.effects.length">
      <h3 class="muted mt-2">
        On devices{{ entry.effects.length === 100 ? ' (the first hundred)' : '' }}
      </h3>
      <div v-for="effect in entry.effects.slice(0, 12)" :key="effect.device_id" class="effect">
        <router-link :to="`/devices/${effect.device_id}`"
          >device {{ effect.device_id }}</router-link
        >
        <span class="mono muted">{{
          effect.before ? JSON.stringify(effect.before) : 'nothing'
        }}</span>
        → <span class="mono">{{ effect.after ? JSON.stringify(effect.after) : 'removed' }}</span>
      </div>
    </template>
  </v-card>
  <DataList
    label="Journal"
    :columns="columns"
    :items="items"
    :row-key="(one) => one.id"
    :loading="isFetching"
    :error="error"
    :more="hasNextPage"
    @more="fetchNextPage()"
  >
    <template #id="{ item }"
      ><router-link :to="{ query: { ...route.query, entry: item.id } }">{{
        item.id
      }}</router-link></template
    >
    <template #at="{ item }"
      ><span class="nowrap">{{ atTime(item.at) }}</span></template
    >
    <template #reason="{ item }">{{ item.reason ?? '' }}</template>
    <template #state="{ item }"><v-chip v-if="item.reverted_by">reverted</v-chip></template>
  </DataList>
</template>

<style scoped>
.about {
  max-width: 200px;
}
.halves {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(280px, 1fr));
  gap: 12px;
}
pre {
  white-space: pre-wrap;
  max-height: 220px;
  overflow: auto;
}
.effect {
  overflow-wrap: anywhere;
}
h3 {
  font-size: 0.85rem;
  font-weight: 560;
}
</style>
