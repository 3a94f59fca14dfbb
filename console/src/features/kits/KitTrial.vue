<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'

import { api, got, listed, type Schemas } from '../../api/client'
import { useAction } from '../../shared/actions/useAction'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import EffectiveTable from './EffectiveTable.vue'

/** What a device would get that is imagined, and what a cohort gets beside everyone. */
const { choices } = useVocabulary()
const { data: cohorts } = useQuery({
  queryKey: ['cohorts'],
  queryFn: () => listed(api.GET('/api/v1/cohorts')),
})
const names = computed(() => (cohorts.value ?? []).filter((one) => !one.moving))
const form = reactive({
  platform: 'android' as Schemas['Platform'],
  os_version: '',
  ownership: 'corporate' as Schemas['Ownership'],
  site: '',
  person: '',
  cohorts: [] as string[],
})
const found = ref<Schemas['EffectiveKit'] | null>(null)
const { busy, failure, run } = useAction()
const look = () =>
  run(async () => {
    const body = {
      platform: form.platform,
      ownership: form.ownership,
      os_version: form.os_version.trim() || null,
      site: form.site.trim() || null,
      person: form.person.trim() || null,
      cohorts: form.cohorts,
    }
    found.value = await got(api.POST('/api/v1/imagined-kit', { body }))
  }, false)

const cohort = ref<string | null>(null)
const { data: beside, error } = useQuery({
  queryKey: ['beside', cohort],
  queryFn: () =>
    got(api.GET('/api/v1/cohorts/{key}/kit', { params: { path: { key: cohort.value ?? '' } } })),
  enabled: () => !!cohort.value,
})
</script>

<template>
  <div class="halves">
    <section class="stack">
      <h2>An imagined device</h2>
      <p class="muted">
        Nothing is written. It is in every cohort that it fits, and in those named.
      </p>
      <div class="pair">
        <v-select v-model="form.platform" :items="choices('platform')" label="Platform" />
        <v-text-field v-model="form.os_version" label="OS version" />
        <v-select v-model="form.ownership" :items="choices('ownership')" label="Ownership" />
        <v-text-field v-model="form.site" label="Site" />
        <v-text-field v-model="form.person" label="Person: user name or mail" autocomplete="off" />
        <v-select
          v-model="form.cohorts"
          :items="names.map((one) => one.name)"
          label="Cohorts"
          multiple
          chips
          closable-chips
        />
      </div>
      <div>
        <v-btn color="primary" variant="outlined" :loading="busy" @click="look"
          >What would it get?</v-btn
        >
      </div>
      <ProblemAlert :error="failure" />
      <EffectiveTable v-if="found" :kit="found" label="What the imagined device gets" />
    </section>
    <section class="stack">
      <h2>A cohort beside everyone</h2>
      <p class="muted">
        What a device of this cohort gets, where it is of the right platform and version.
      </p>
      <v-autocomplete v-model="cohort" :items="names.map((one) => one.name)" label="Cohort" />
      <ProblemAlert :error="error" />
      <template v-if="beside">
        <h3>Everyone</h3>
        <EffectiveTable :kit="beside.everyone" label="What everyone gets" />
        <h3>{{ beside.cohort.subject }}</h3>
        <EffectiveTable :kit="beside.cohort" :label="`What ${beside.cohort.subject} gets`" />
      </template>
    </section>
  </div>
</template>

<style scoped>
.halves {
  display: grid;
  grid-template-columns: repeat(2, minmax(0, 1fr));
  gap: 20px;
  align-items: start;
}
@media (max-width: 1100px) {
  .halves {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
