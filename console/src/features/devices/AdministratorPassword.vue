<script setup lang="ts">
import { ref } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import { useAction } from '../../shared/actions/useAction'
import EditDialog from '../../shared/dialogs/EditDialog.vue'

/** The password of a device's local administrator: asked for first, then shown once. */
const { device, user } = defineProps<{ device: number; user: string }>()
const open = ref(false)
const found = ref<Schemas['AdministratorPassword'] | null>(null)
const { busy, failure, run, forget } = useAction()

function ask() {
  forget()
  found.value = null
  open.value = true
}

async function look() {
  if (found.value) {
    open.value = false
    return
  }
  const path = { device_id: device }
  await run(async () => {
    found.value = await got(
      api.POST('/api/v1/devices/{device_id}/administrator-password', { params: { path } }),
    )
  })
}
</script>

<template>
  <p class="mt-3">
    Local administrator: <span class="mono">{{ user }}</span>
    <v-btn size="small" variant="text" color="primary" @click="ask">Show the password</v-btn>
  </p>
  <EditDialog
    v-model="open"
    title="The administrator’s password"
    :label="found ? 'Done' : 'Show it'"
    :failure="failure"
    :busy="busy"
    @save="look"
  >
    <p v-if="!found">
      It is shown this once. The journal tells that you looked, and the device gets another one when
      it checks in next.
    </p>
    <dl v-else class="facts" role="status">
      <dt>User name</dt>
      <dd class="mono">{{ found.user }}</dd>
      <dt>Password</dt>
      <dd class="mono password">{{ found.password }}</dd>
      <template v-if="found.former">
        <dt>If it is refused</dt>
        <dd class="mono password">{{ found.former }}</dd>
      </template>
    </dl>
  </EditDialog>
</template>

<style scoped>
.password {
  font-size: 1.25rem;
}
</style>
