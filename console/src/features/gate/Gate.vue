<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'

import { api, got, listed, type Schemas } from '../../api/client'
import Picker from '../../shared/fields/Picker.vue'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { useDraft } from '../../shared/actions/useDraft'
import { usePreview } from '../../shared/actions/usePreview'
import { useAction } from '../../shared/actions/useAction'
import { useSession } from '../../shared/actions/useSession'
import { type Line, type Policy, stated, type Value } from './facets'
import FacetDialog from './FacetDialog.vue'
import GateMatrix from './GateMatrix.vue'
import GateReplay from './GateReplay.vue'
import GateTrial from './GateTrial.vue'
import PolicyDialog from './PolicyDialog.vue'

const session = useSession()
const preview = usePreview()
const { data: gate, error } = useQuery({
  queryKey: ['gate'],
  queryFn: () => got(api.GET('/api/v1/gate')),
})
const { draft, changed, revision, undo } = useDraft(gate, (saved) => saved.policies, 'gate')
const policies = computed<Policy[]>({
  get: () => draft.value ?? [],
  set: (edited) => (draft.value = edited),
})
const last = computed(() => policies.value.length - 1)

// What is odd is said while it is edited, and for whom each word counts.
const remarks = ref<Schemas['PolicyRemark'][]>([])
const effective = ref<Schemas['Effective'] | null>(null)
const kind = ref<'person' | 'group' | 'device' | null>(null)
const whom = ref('')
const checking = useAction()
const looking = useAction()
let timer: ReturnType<typeof setTimeout> | undefined
watch([policies, kind, whom], () => {
  clearTimeout(timer)
  timer = setTimeout(() => void look(), 250)
})

async function look() {
  const body = { policies: policies.value }
  await checking.run(async () => {
    remarks.value = await listed(api.POST('/api/v1/gate/check', { body }))
  }, false)
  const wanted = kind.value && whom.value.trim() ? { [kind.value]: whom.value.trim() } : null
  if (!wanted) {
    effective.value = null
    looking.forget()
    return
  }
  const asked = { ...wanted, policies: policies.value }
  const well = await looking.run(async () => {
    effective.value = await got(api.POST('/api/v1/gate/effective', { body: asked }))
  }, false)
  if (!well) effective.value = null
}

const line = ref<Line>({ facet: 'door', platform: 'android' })
const chosen = ref(0)
const cellOpen = ref(false)
const policyOpen = ref(false)

function edit(place: number, of: Line) {
  chosen.value = place
  line.value = of
  cellOpen.value = true
}

function editPolicy(place: number) {
  chosen.value = place
  policyOpen.value = true
}

function put(place: number, policy: Policy) {
  policies.value = policies.value.map((one, at) => (at === place ? policy : one))
}

function say(value: Value | null) {
  put(chosen.value, stated(policies.value[chosen.value]!, line.value, value))
}

function inserted(policy: Policy, place: number) {
  policies.value = [...policies.value.slice(0, place), policy, ...policies.value.slice(place)]
}

function unused(name: string): string {
  const taken = new Set(policies.value.map((one) => one.name.toLowerCase()))
  let found = name
  for (let number = 2; taken.has(found.toLowerCase()); number++) found = `${name} ${number}`
  return found
}

/** What is added is an exception: it goes first, so that it is heard. */
function add() {
  inserted({ name: unused('New policy'), groups: [] }, 0)
  editPolicy(0)
}

function copy(place: number) {
  const policy = JSON.parse(JSON.stringify(policies.value[place])) as Policy
  const whole = place === last.value ? { groups: [] } : {}
  inserted({ ...policy, ...whole, name: unused(`${policy.name} copy`) }, place)
}

function move(from: number, to: number) {
  const order = [...policies.value]
  const [policy] = order.splice(from, 1)
  if (policy) order.splice(to, 0, policy)
  policies.value = order
}

function remove(place: number) {
  policies.value = policies.value.filter((_, at) => at !== place)
}

function save() {
  const body = { policies: policies.value }
  void preview.open({
    look: () => got(api.POST('/api/v1/gate/preview', { body })),
    act: (digest, reason) =>
      got(
        api.POST('/api/v1/gate/apply', {
          body: { ...body, digest, reason },
          params: { header: { 'if-match': `"${revision.value}"` } },
        }),
      ),
    // What was saved is what stands now.
    done: undo,
  })
}

const kinds = [
  { title: 'nobody', value: null },
  { title: 'a person', value: 'person' },
  { title: 'a group', value: 'group' },
  { title: 'a device', value: 'device' },
]
watch(kind, () => (whom.value = ''))
</script>

<template>
  <div class="page-head">
    <h1>Gate</h1>
    <template v-if="gate && session.may('prepare')">
      <v-btn variant="text" :prepend-icon="mdiPlus" @click="add">Add a policy</v-btn>
      <v-btn v-if="changed" variant="text" @click="undo">Undo the changes</v-btn>
      <v-btn variant="text" href="#try">Try a device</v-btn>
      <v-btn color="primary" :disabled="!changed" @click="save">Preview and save</v-btn>
    </template>
  </div>
  <div class="row-gap mb-3">
    <p class="muted lead">
      For each question, the first policy from the left that is for the person or the device and
      answers it decides. The last one, the baseline, is for everyone.
    </p>
    <v-select v-model="kind" :items="kinds" label="Mark what counts for" class="kind" />
    <Picker v-if="kind === 'group'" v-model="whom" kind="group" label="Group" class="whom" />
    <Picker
      v-else-if="kind === 'person'"
      v-model="whom"
      kind="person"
      label="Person"
      class="whom"
    />
    <v-text-field
      v-else-if="kind"
      v-model="whom"
      label="Serial number or IMEI"
      class="whom"
      autocomplete="off"
    />
  </div>
  <v-alert v-if="changed" type="info" class="mb-2" role="note"
    >Not saved yet. What you changed is kept here until you save or undo it, also when you leave the
    page.</v-alert
  >
  <ProblemAlert :error="error" />
  <ProblemAlert :error="checking.failure.value ?? looking.failure.value" />
  <p v-if="effective" class="mb-2" aria-live="polite">
    For <strong>{{ effective.subject }}</strong>: {{ effective.policies.join(', ') }}. What counts
    is marked.
  </p>
  <GateMatrix
    :policies="policies"
    :effective="effective"
    :faults="remarks.map((one) => one.pointer)"
    @edit="edit"
    @policy="editPolicy"
    @copy="copy"
    @remove="remove"
    @move="move"
  />
  <!-- Of one height whatever it says: a page that shrinks would move an open menu from under the
       pointer. -->
  <div class="remarks mt-3" role="region" aria-label="Remarks" tabindex="0">
    <div role="status">
      <v-alert v-if="remarks.length" type="warning">
        <div v-for="remark in remarks" :key="remark.pointer + remark.code">{{ remark.detail }}</div>
      </v-alert>
      <p v-else class="muted">No policy hides or contradicts another.</p>
    </div>
  </div>
  <div class="below mt-4">
    <GateReplay v-if="changed" :policies="policies" />
    <GateTrial :policies="policies" :changed="changed" />
  </div>
  <FacetDialog
    v-if="policies[chosen]"
    v-model="cellOpen"
    :line="line"
    :policy="policies[chosen]!"
    :baseline="chosen === last ? null : policies[last]!"
    @set="say"
  />
  <PolicyDialog
    v-if="policies[chosen]"
    v-model="policyOpen"
    :policy="policies[chosen]!"
    :is-baseline="chosen === last"
    @set="(policy) => put(chosen, policy)"
  />
</template>

<style scoped>
.lead {
  flex: 1 1 420px;
}
.kind {
  max-width: 190px;
  min-width: 170px;
}
.whom {
  max-width: 240px;
  min-width: 190px;
}
.remarks {
  height: 84px;
  overflow: auto;
}
.below {
  display: grid;
  gap: 12px;
  grid-template-columns: minmax(0, 1fr);
}
</style>
