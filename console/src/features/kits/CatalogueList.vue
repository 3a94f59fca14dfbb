<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, listed, type Schemas } from '../../api/client'
import { useDocuments } from '../../shared/actions/useDocuments'
import { useSession } from '../../shared/actions/useSession'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import { plural } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import OwnSettingDialog from './OwnSettingDialog.vue'
import { platforms } from './items'

/** What can be set, found by typing or by theme. */
const emit = defineEmits<{ make: [setting: Schemas['CatalogueSetting']] }>()
const session = useSession()
const { choices, label } = useVocabulary()
const typed = ref('')
const theme = ref<string | null>(null)
const platform = ref<Schemas['Platform'][]>([])
const { data: all } = useQuery({
  queryKey: ['catalogue'],
  queryFn: () => listed(api.GET('/api/v1/catalogue')),
})
const themes = computed(() => [...new Set((all.value ?? []).map((one) => one.theme))])
const { data, error, isFetching } = useQuery({
  queryKey: ['catalogue', typed, theme, platform],
  queryFn: () =>
    listed(
      api.GET('/api/v1/catalogue', {
        params: {
          query: {
            query: typed.value.trim(),
            theme: theme.value ?? undefined,
            platform: platform.value,
          },
        },
      }),
    ),
})
const own = useDocuments<Schemas['OwnSetting'], Schemas['OwnSettingDetail']>(
  '/api/v1/own-settings',
).useList()
const mine = computed(() => new Map((own.data.value ?? []).map((one) => [one.key, one])))
const open = ref(false)
const changing = ref<Schemas['OwnSettingDetail'] | null>(null)
function edit(one: Schemas['OwnSettingDetail'] | null) {
  changing.value = one
  open.value = true
}
const columns = [
  { key: 'name', title: 'Setting' },
  { key: 'says', title: 'What it does' },
  { key: 'form', title: 'Value' },
  { key: 'platforms', title: 'Platforms' },
  { key: 'act', title: '' },
]
</script>

<template>
  <div class="row-gap mb-3">
    <v-text-field
      v-model="typed"
      label="Find a setting"
      placeholder="camera, update, lock"
      class="find"
      clearable
      @click:clear="typed = ''"
    />
    <v-select v-model="theme" :items="themes" label="Theme" clearable class="theme" />
    <v-select
      v-model="platform"
      :items="choices('platform')"
      label="Known to"
      multiple
      clearable
      class="theme"
    />
    <v-btn
      v-if="session.may('prepare')"
      variant="text"
      color="primary"
      :prepend-icon="mdiPlus"
      @click="edit(null)"
      >Add a setting of your own</v-btn
    >
    <span class="muted" aria-live="polite">{{ plural(data?.length ?? 0, 'setting') }}</span>
  </div>
  <DataList
    label="Settings"
    :columns="columns"
    :items="data ?? []"
    :row-key="(one) => one.key"
    :loading="isFetching"
    :error="error"
    empty="Nothing like that can be set. An item can be a setting of your own."
  >
    <template #name="{ item }"
      ><strong>{{ item.name }}</strong>
      <div class="muted">{{ item.theme }}</div></template
    >
    <template #platforms="{ item }">{{
      platforms(item.platforms, (one) => label('platform', one))
    }}</template>
    <template #act="{ item }"
      ><v-btn
        v-if="session.may('prepare') && mine.get(item.key)"
        size="small"
        variant="text"
        :aria-label="`Change ${item.name}`"
        @click="edit(mine.get(item.key)!)"
        >Change</v-btn
      ><v-btn
        v-if="session.may('prepare')"
        size="small"
        variant="text"
        color="primary"
        :aria-label="`Make an item of ${item.name}`"
        @click="emit('make', item)"
        >Make an item</v-btn
      ></template
    >
  </DataList>
  <OwnSettingDialog v-model="open" :setting="changing" />
</template>

<style scoped>
.find {
  max-width: 320px;
}
.theme {
  max-width: 220px;
}
</style>
