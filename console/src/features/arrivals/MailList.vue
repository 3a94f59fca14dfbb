<script setup lang="ts">
import { ref } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import DataList from '../../shared/tables/DataList.vue'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { atTime } from '../../shared/formats'
import { usePages } from '../../shared/tables/usePages'
import { useAction } from '../../shared/actions/useAction'
import { useSession } from '../../shared/actions/useSession'
import { useVocabulary } from '../../shared/actions/useVocabulary'

/** Mails that wait, were sent or could not be; whoever administers tries them again. */
const session = useSession()
const { choices } = useVocabulary()
const state = ref<Schemas['MailState'] | null>(null)
const address = ref('')
const told = ref('')
const { failure, run } = useAction()
const mails = usePages<Schemas['Mail']>(
  () => ['mails', state.value],
  (cursor) =>
    got(
      api.GET('/api/v1/mails', { params: { query: { state: state.value ?? undefined, cursor } } }),
    ),
)
const columns = [
  { key: 'at', title: 'At' },
  { key: 'to', title: 'To' },
  { key: 'subject', title: 'Subject' },
  { key: 'state', title: 'State' },
  { key: 'said', title: 'What the mail server said' },
]
const tones: Record<string, string> = { sent: 'success', failed: 'error', waiting: 'warning' }

const again = (mailId: number) =>
  run(async () => {
    const path = { mail_id: mailId }
    await got(api.POST('/api/v1/mails/{mail_id}/again', { params: { path }, body: {} }))
  })

const test = () =>
  run(async () => {
    await got(api.POST('/api/v1/mails/test', { body: { address: address.value } }))
    told.value = `A test mail to ${address.value} waits to be sent.`
  })
</script>

<template>
  <ProblemAlert :error="failure" />
  <div class="row-gap mb-2">
    <v-select
      v-model="state"
      :items="choices('mail_state')"
      label="State (none: all)"
      clearable
      hide-details
      class="narrow"
    />
    <v-spacer />
    <form v-if="session.may('administer')" class="row-gap" @submit.prevent="test">
      <v-text-field v-model="address" label="Address" type="email" hide-details class="narrow" />
      <v-btn type="submit" variant="outlined" color="primary" :disabled="!address"
        >Send a test mail</v-btn
      >
    </form>
  </div>
  <p v-if="told" role="status" class="mb-2">{{ told }}</p>
  <DataList
    label="Mails"
    :columns="columns"
    :items="mails.items.value"
    :row-key="(one) => one.id"
    :loading="mails.isFetching.value"
    :error="mails.error.value"
    :more="mails.hasNextPage.value"
    empty="No mails yet: passes and codes go out by mail where a mail server is set."
    @more="mails.fetchNextPage()"
  >
    <template #at="{ item }"
      ><span class="nowrap">{{ atTime(item.at) }}</span></template
    >
    <template #to="{ item }"
      >{{ item.to_name }}
      <div class="muted">{{ item.to_address }}</div></template
    >
    <template #state="{ item }">
      <v-chip :color="tones[item.state]">{{ item.state }}</v-chip>
      <v-btn
        v-if="session.may('administer') && item.can_be_tried"
        size="small"
        variant="text"
        :aria-label="`Try the mail to ${item.to_address} again`"
        @click="again(item.id)"
        >Try again</v-btn
      >
    </template>
    <template #said="{ item }"
      >{{ item.last_error ?? '–' }}
      <div v-if="item.state === 'waiting' && item.next_try_at" class="muted">
        next try {{ atTime(item.next_try_at) }}
      </div></template
    >
  </DataList>
</template>

<style scoped>
.narrow {
  min-width: 220px;
}
</style>
