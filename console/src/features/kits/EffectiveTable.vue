<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import DataList from '../../shared/tables/DataList.vue'
import { givenTo, through } from './items'

/** What a device gets, through what, and what was beaten; with what it told, where it did. */
const {
  kit,
  label: named,
  reports = null,
} = defineProps<{
  kit: Schemas['EffectiveKit']
  label: string
  reports?: Schemas['DeviceReport'][] | null
}>()
const { label } = useVocabulary()
const told = computed(() => new Map((reports ?? []).map((one) => [one.item_id, one])))
const columns = computed(() => [
  { key: 'name', title: 'Item' },
  { key: 'verdict', title: 'What becomes of it' },
  { key: 'through', title: 'Through' },
  ...(reports ? [{ key: 'state', title: 'On the device' }] : []),
])
const TONES: Record<string, string> = {
  required: '',
  offered: '',
  excluded: 'muted',
  beaten: 'tone-warn',
  not_for: 'muted',
}
</script>

<template>
  <DataList
    :label="named"
    :columns="columns"
    :items="kit.lines"
    :row-key="(line) => line.id"
    empty="Nothing is given to it."
  >
    <template #name="{ item }"
      ><router-link :to="`/items/${item.id}`">{{ item.name }}</router-link>
      <span v-if="item.needs_hand" class="muted"> (somebody must be at the device)</span></template
    >
    <template #verdict="{ item }"
      ><span :class="TONES[item.verdict]">{{
        item.beaten_by ? `beaten by “${item.beaten_by}”` : label('item_verdict', item.verdict)
      }}</span
      ><span v-if="item.disagrees" class="tone-warn">, which says otherwise</span></template
    >
    <template #through="{ item }"
      >{{ through(item.through) }}
      <div v-for="(beat, place) in item.beat" :key="place" class="muted">
        instead of {{ through(beat) }}
      </div></template
    >
    <template #state="{ item }"
      ><template v-if="item.verdict === 'required' || item.verdict === 'offered'"
        ><span :class="told.get(item.id)?.state === 'failed' ? 'tone-bad' : ''">{{
          label('item_state', told.get(item.id)?.state ?? 'waiting')
        }}</span
        ><span v-if="told.get(item.id)?.words" class="muted"
          >: {{ told.get(item.id)?.words }}</span
        ></template
      ><template v-else>–</template></template
    >
  </DataList>
  <p v-if="kit.sheet" class="mt-2 mb-0">
    Setup sheet <strong>{{ kit.sheet.name }}</strong>
    <span class="muted">({{ givenTo([kit.sheet.through]) }})</span>
  </p>
  <p v-if="kit.checklist" class="mt-2 mb-0">
    Checklist <strong>{{ kit.checklist.name }}</strong>
    <span class="muted">({{ givenTo([kit.checklist.through]) }})</span>
  </p>
</template>
