<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'

import { api, got, listed, type Schemas } from '../../api/client'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import FilterField from '../../shared/filters/FilterField.vue'
import { useDraft } from '../../shared/actions/useDraft'
import { usePreview } from '../../shared/actions/usePreview'
import { useAction } from '../../shared/actions/useAction'
import { useSession } from '../../shared/actions/useSession'
import TemplateCard from './TemplateCard.vue'

const session = useSession()
const preview = usePreview()
const { data: naming, error } = useQuery({
  queryKey: ['naming'],
  queryFn: () => got(api.GET('/api/v1/naming')),
})
const { draft, changed, revision } = useDraft(naming, (saved) => saved.templates)
const templates = computed<Schemas['Template'][]>(() => draft.value ?? [])
const checked = ref<Schemas['TemplateChecked'][]>([])
const faulty = computed(() => checked.value.some((one) => one.problems.length))
const which = ref('')
const { failure, run } = useAction()
let turn = 0

// What each template would do is shown while it is typed.
watch(
  templates,
  async (given) => {
    const mine = ++turn
    await new Promise((resolve) => setTimeout(resolve, 300))
    if (mine !== turn || !given.length) return
    try {
      const answer = await listed(api.POST('/api/v1/naming/check', { body: { templates: given } }))
      if (mine !== turn) return
      checked.value = answer
      failure.value = null
    } catch (problem) {
      if (mine === turn) failure.value = problem
    }
  },
  { deep: true },
)

function move(from: number, by: number) {
  const [template] = templates.value.splice(from, 1)
  if (template) templates.value.splice(from + by, 0, template)
}

const save = () =>
  run(() =>
    got(
      api.POST('/api/v1/naming/save', {
        body: { templates: templates.value },
        params: { header: { 'if-match': `"${revision.value}"` } },
      }),
    ),
  )

function rename() {
  const selection = { filter: which.value.trim() || null }
  void preview.open({
    look: () => got(api.POST('/api/v1/naming/preview', { body: { selection } })),
    act: (digest, reason) =>
      got(api.POST('/api/v1/naming/apply', { body: { selection, digest, reason } })),
  })
}
</script>

<template>
  <div class="page-head">
    <h1>Names</h1>
    <template v-if="naming && session.may('prepare')">
      <v-btn
        variant="text"
        :prepend-icon="mdiPlus"
        @click="
          templates.unshift({
            name: `Template ${templates.length + 1}`,
            pattern: 'DEVICE-{n|pad 4}',
            platforms: [],
            devices: null,
          })
        "
        >Add a template</v-btn
      >
      <v-btn color="primary" :disabled="!changed || !!failure || faulty" @click="save"
        >Save for devices to come</v-btn
      >
    </template>
  </div>
  <p class="muted mb-3">
    The first template that fits a device names it when it arrives. Names given by hand or by a lot
    stay.
  </p>
  <ProblemAlert :error="error" />
  <div class="stack">
    <TemplateCard
      v-for="(template, place) in templates"
      :key="place"
      :model-value="template"
      :fields="naming?.fields ?? []"
      :filters="naming?.filters ?? []"
      :checked="checked[place]"
      :first="place === 0"
      :last="place === templates.length - 1"
      :editable="session.may('prepare')"
      @move="(by) => move(place, by)"
      @remove="templates.splice(place, 1)"
    />
    <ProblemAlert :error="failure" />
    <v-card v-if="session.may('prepare')" class="pa-4">
      <h2 class="mb-2">Name devices that are here or awaited</h2>
      <p class="muted mb-2">
        An awaited device keeps the name that it is given now: it is reserved for it.
        <template v-if="changed">Save the templates first.</template>
      </p>
      <FilterField v-model="which" label="Which devices (empty: all)" />
      <v-btn class="mt-2" color="primary" variant="outlined" :disabled="changed" @click="rename"
        >Preview the names</v-btn
      >
    </v-card>
    <v-card class="pa-4">
      <h2 class="mb-2">How to write a pattern</h2>
      <p>
        Text with fields in braces: <code class="mono">{site|upper|first 3}-{serial|last 6}</code>.
        A field that can be empty is given a text for that case:
        <code class="mono">{site|or "SHIP"}</code>. <code class="mono">{~model}</code> may be
        shortened from the left when the name is too long;
        <code class="mono">{n|pad 4}</code> counts; <code class="mono">{check}</code> is a check
        character; <code class="mono">{tag.deck}</code> is what follows <code>deck:</code> in the
        device's tags.
      </p>
    </v-card>
  </div>
</template>

<style scoped>
code {
  background: rgba(var(--v-theme-primary), 0.1);
  padding: 1px 5px;
  border-radius: 4px;
}
</style>
