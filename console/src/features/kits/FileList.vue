<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { ref } from 'vue'

import { at } from '../../api/base'
import { api, got, listed, type Schemas } from '../../api/client'
import { useAction } from '../../shared/actions/useAction'
import { useSession } from '../../shared/actions/useSession'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import { atTime, sized } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import FileField from './FileField.vue'

/** The files that are kept here for devices. */
const session = useSession()
const { data, isFetching, error } = useQuery({
  queryKey: ['files'],
  queryFn: () => listed(api.GET('/api/v1/files')),
})
const { busy, failure, run, forget } = useAction()
const put = ref('')
const going = ref<Schemas['KeptFile'] | null>(null)
const open = ref(false)
const columns = [
  { key: 'name', title: 'File' },
  { key: 'size', title: 'Size', number: true },
  { key: 'items', title: 'Items that name it' },
  { key: 'at', title: 'Put in' },
  { key: 'digest', title: 'SHA-256' },
  { key: 'act', title: '' },
]

function ask(file: Schemas['KeptFile']) {
  forget()
  going.value = file
  open.value = true
}

async function remove() {
  const path = { digest: going.value?.digest ?? '' }
  const done = await run(() =>
    got(api.DELETE('/api/v1/files/{digest}', { params: { path } }) as never),
  )
  if (done) open.value = false
}
</script>

<template>
  <FileField v-if="session.may('prepare')" v-model="put" fresh />
  <DataList
    class="mt-3"
    label="Files"
    :columns="columns"
    :items="data ?? []"
    :row-key="(one) => one.digest"
    :loading="isFetching"
    :error="error"
    empty="No files yet. Apps, documents and pictures that devices get are put in here."
  >
    <template #name="{ item: one }"
      ><a v-if="session.may('prepare')" :href="at(`/api/v1/files/${one.digest}/content`)"
        ><strong>{{ one.name }}</strong></a
      ><strong v-else>{{ one.name }}</strong></template
    >
    <template #size="{ item: one }">{{ sized(one.size) }}</template>
    <template #items="{ item: one }"
      >{{ one.items.join(', ') }}<span v-if="!one.items.length" class="muted">none</span></template
    >
    <template #at="{ item: one }"
      >{{ atTime(one.at) }}
      <div class="muted">by {{ one.by }}</div></template
    >
    <template #digest="{ item: one }"
      ><span class="mono" :title="one.digest">{{ one.digest.slice(0, 16) }}…</span></template
    >
    <template #act="{ item: one }"
      ><v-btn
        v-if="session.may('prepare') && !one.items.length"
        size="small"
        variant="text"
        @click="ask(one)"
        >Remove</v-btn
      ></template
    >
  </DataList>
  <EditDialog
    v-model="open"
    :title="`Remove ${going?.name ?? ''}`"
    label="Remove the file"
    :failure="failure"
    :busy="busy"
    @save="remove"
  >
    <p>No item names it. This cannot be taken back: the file must be put in again.</p>
  </EditDialog>
</template>
