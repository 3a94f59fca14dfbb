<script setup lang="ts">
import {
  mdiAccountAlertOutline,
  mdiBagPersonalOutline,
  mdiBroom,
  mdiCardAccountDetailsOutline,
  mdiDoorOpen,
  mdiHandBackRightOutline,
  mdiKeyAlert,
  mdiLanConnect,
  mdiPackageVariantClosed,
  mdiPauseCircleOutline,
  mdiScaleBalance,
} from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'

import { api, got, type Schemas } from '../../api/client'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import { age, atTime, number, plural } from '../../shared/formats'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'

type Stage = Schemas['Stage']
const { words } = useVocabulary()
const icons: Record<string, string> = {
  parked: mdiPauseCircleOutline,
  refused: mdiDoorOpen,
  lot: mdiPackageVariantClosed,
  pool: mdiCardAccountDetailsOutline,
  kit: mdiBagPersonalOutline,
  sweep: mdiBroom,
  hold: mdiHandBackRightOutline,
  quota: mdiAccountAlertOutline,
  leavers: mdiAccountAlertOutline,
  claims: mdiDoorOpen,
  source: mdiLanConnect,
  end: mdiKeyAlert,
  levels: mdiScaleBalance,
  'follow-up': mdiScaleBalance,
}
const { data, error, isLoading } = useQuery({
  queryKey: ['today'],
  queryFn: () => got(api.GET('/api/v1/today')),
  // A large fleet is being counted again while its former numbers are shown.
  refetchInterval: ({ state }) => (state.data?.age_seconds ? 20_000 : false),
})
</script>

<template>
  <div class="page-head">
    <h1>Today</h1>
    <span v-if="data" class="muted">
      {{ atTime(data.now) }}
      <template v-if="data.age_seconds">
        · devices counted {{ plural(data.age_seconds, 'second') }} ago
      </template>
    </span>
  </div>
  <ProblemAlert :error="error" />
  <v-progress-linear v-if="isLoading" indeterminate color="primary" aria-label="Loading" />
  <template v-if="data">
    <nav class="row-gap mb-4" aria-label="Devices by stage">
      <router-link
        v-for="stage in words('stage')
          .map((one) => one.value as Stage)
          .filter((one) => data?.stages[one])"
        :key="stage"
        :to="`/devices?stage=${stage}`"
        class="stage"
      >
        <strong>{{ number(data.stages[stage] ?? 0) }}</strong> {{ stage }}
      </router-link>
    </nav>
    <h2 class="mb-2">
      {{ data.items.length ? 'Needs a hand, oldest first' : 'Nothing needs a hand' }}
    </h2>
    <p v-if="!data.items.length && !Object.keys(data.stages).length">
      Start by importing what was bought:
      <router-link to="/lots">check a supplier's file</router-link>.
    </p>
    <v-card v-if="data.items.length">
      <ul class="work">
        <li v-for="item in data.items" :key="item.title">
          <v-icon :icon="icons[item.kind]" class="muted" aria-hidden="true" />
          <div class="what">
            <div class="title">{{ item.title }}</div>
            <div class="muted">{{ item.detail }}</div>
          </div>
          <span class="muted nowrap">{{
            item.since_at ? `for ${age(item.since_at, data.now)}` : ''
          }}</span>
          <v-btn :to="item.page" variant="outlined" color="primary" size="small" class="go">{{
            item.action
          }}</v-btn>
        </li>
      </ul>
    </v-card>
  </template>
</template>

<style scoped>
.stage {
  text-decoration: none;
  padding: 6px 12px;
  border-radius: 6px;
  background: rgb(var(--v-theme-surface));
  border: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
}
.stage strong {
  font-size: 1.1rem;
}
.work {
  list-style: none;
  padding: 0;
  margin: 0;
}
.work li {
  display: flex;
  gap: 14px;
  align-items: center;
  padding: 11px 16px;
  flex-wrap: wrap;
}
.work li + li {
  border-top: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
}
.what {
  flex: 1 1 260px;
}
.title {
  font-weight: 600;
}
.go {
  min-width: 158px;
}
</style>
