<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, got, listed, type Schemas } from '../../api/client'
import { useAction } from '../../shared/actions/useAction'
import { useHold } from '../../shared/actions/useHold'
import { useSession } from '../../shared/actions/useSession'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import Picker from '../../shared/fields/Picker.vue'
import { number, onDay } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import { usePages } from '../../shared/tables/usePages'

const session = useSession()
const hold = useHold()
const { label } = useVocabulary()
const { failure, run } = useAction()
const over = ref(false)
const person = ref('')
const cohort = ref<string | null>(null)
const { data: cohorts } = useQuery({
  queryKey: ['cohorts'],
  queryFn: () => listed(api.GET('/api/v1/cohorts')),
})
const choices = computed(() => (cohorts.value ?? []).map((one) => one.name))
const holds = usePages<Schemas['Hold']>(
  () => ['holds', over.value],
  (cursor) => got(api.GET('/api/v1/holds', { params: { query: { cursor, over: over.value } } })),
)
const columns = [
  { key: 'label', title: 'Keeps' },
  { key: 'devices', title: 'Devices', number: true },
  { key: 'state', title: 'State' },
  { key: 'days', title: 'From – until' },
  { key: 'reason', title: 'Reason' },
  { key: 'owner', title: 'Answers for it' },
  { key: 'act', title: '' },
]
const where = (one: Schemas['Hold']) =>
  one.person_id
    ? `/people?person=${one.person_id}`
    : one.cohort_id
      ? `/cohorts/${one.cohort_id}`
      : one.devices === 1
        ? `/devices/${one.device_id}`
        : null
const end = (one: Schemas['Hold']) =>
  run(() =>
    got(
      api.POST('/api/v1/holds/{hold_id}/end', { params: { path: { hold_id: one.id } }, body: {} }),
    ),
  )
</script>

<template>
  <h2 id="holds" class="mt-6 mb-2">Holds</h2>
  <ProblemAlert :error="failure" />
  <div v-if="session.may('manage-devices')" class="row-gap mb-2 adding">
    <Picker kind="person" v-model="person" label="A person" />
    <v-btn
      variant="outlined"
      color="primary"
      :prepend-icon="mdiPlus"
      :disabled="!person"
      @click="hold.open({ person }, `all devices of ${person}`)"
      >Hold a person’s devices</v-btn
    >
    <v-select v-model="cohort" :items="choices" label="A cohort" class="cohort" />
    <v-btn
      variant="outlined"
      color="primary"
      :prepend-icon="mdiPlus"
      :disabled="!cohort"
      @click="hold.open({ cohort }, `cohort “${cohort}”`)"
      >Hold a cohort</v-btn
    >
    <v-checkbox v-model="over" label="Also those that are over" hide-details density="compact" />
  </div>
  <DataList
    label="Holds"
    :columns="columns"
    :items="holds.items.value"
    :row-key="(one) => one.id"
    :loading="holds.isFetching.value"
    :error="holds.error.value"
    :more="holds.hasNextPage.value"
    empty="Nothing is held: sweeps take whatever is due."
    @more="holds.fetchNextPage()"
  >
    <template #label="{ item }"
      ><router-link v-if="where(item)" :to="where(item) ?? ''">{{ item.label }}</router-link
      ><template v-else>{{ item.label }}</template></template
    >
    <template #devices="{ item }">{{ number(item.devices) }}</template>
    <template #state="{ item }"
      ><v-chip :color="{ running: 'success', coming: 'info', over: undefined }[item.state]">{{
        label('hold_state', item.state)
      }}</v-chip></template
    >
    <template #days="{ item }"
      ><span class="nowrap">{{ onDay(item.from_on) }} – {{ onDay(item.until_on) }}</span></template
    >
    <template #act="{ item }"
      ><v-btn
        v-if="session.may('manage-devices') && item.state !== 'over'"
        size="small"
        variant="text"
        color="primary"
        @click="end(item)"
        >End it</v-btn
      ></template
    >
  </DataList>
</template>

<style scoped>
.adding {
  flex-wrap: wrap;
}
.cohort {
  max-width: 260px;
}
</style>
