<script setup lang="ts">
import { mdiArrowDown, mdiArrowUp, mdiDeleteOutline, mdiPlus } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'

import { api, got, type Preview, type Schemas } from '../../api/client'
import { number } from '../../shared/formats'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { usePreview } from '../../shared/actions/usePreview'
import { useAction } from '../../shared/actions/useAction'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import { useSession } from '../../shared/actions/useSession'

const session = useSession()
const preview = usePreview()
const { data: naming, error } = useQuery({
  queryKey: ['naming'],
  queryFn: () => got(api.GET('/api/v1/naming')),
})
const templates = ref<Schemas['Template'][]>([])
watch(naming, (saved) => (templates.value = JSON.parse(JSON.stringify(saved?.templates ?? []))), {
  immediate: true,
})
const changed = computed(
  () => naming.value && JSON.stringify(naming.value.templates) !== JSON.stringify(templates.value),
)
const shown = ref<Preview | null>(null)
const { failure, run } = useAction()
const { choices } = useVocabulary()
let turn = 0

// What the templates would do is shown while they are typed.
watch(
  templates,
  async (given) => {
    const mine = ++turn
    await new Promise((resolve) => setTimeout(resolve, 300))
    if (mine !== turn || !given.length) return
    try {
      const answer = await got(api.POST('/api/v1/naming/preview', { body: { templates: given } }))
      if (mine !== turn) return
      shown.value = answer
      failure.value = null
    } catch (problem) {
      if (mine === turn) failure.value = problem
    }
  },
  { deep: true },
)

function move(from: number, to: number) {
  const [template] = templates.value.splice(from, 1)
  if (template) templates.value.splice(to, 0, template)
}

const save = () =>
  run(() =>
    got(
      api.POST('/api/v1/naming/save', {
        body: { templates: templates.value },
        params: { header: { 'if-match': `"${naming.value?.revision}"` } },
      }),
    ),
  )

function rename() {
  void preview.open({
    look: () => got(api.POST('/api/v1/naming/preview', { body: {} })),
    act: (digest, reason) => got(api.POST('/api/v1/naming/apply', { body: { digest, reason } })),
  })
}
</script>

<template>
  <div class="page-head">
    <h1>Names</h1>
    <template v-if="session.may('prepare')">
      <v-btn
        variant="text"
        :prepend-icon="mdiPlus"
        @click="
          templates.unshift({
            name: `Template ${templates.length + 1}`,
            pattern: 'DEVICE-{n|pad 4}',
            platforms: [],
          })
        "
        >Add a template</v-btn
      >
      <v-btn variant="outlined" color="primary" :disabled="!changed || !!failure" @click="save"
        >Save for devices to come</v-btn
      >
      <v-btn color="primary" :disabled="!!changed" @click="rename"
        >Preview renaming the fleet</v-btn
      >
    </template>
  </div>
  <p class="muted mb-3">
    The first template that fits a device's platform names it when it arrives. Names given by hand
    or by a lot stay.
  </p>
  <ProblemAlert :error="error" />
  <div class="stack">
    <v-card v-for="(template, place) in templates" :key="place" class="pa-3 line">
      <v-text-field v-model="template.name" label="Template" :readonly="!session.may('prepare')" />
      <v-textarea
        v-model="template.pattern"
        label="Pattern"
        class="mono"
        rows="1"
        auto-grow
        no-resize
        @keydown.enter.prevent
        :readonly="!session.may('prepare')"
      />
      <v-select
        v-model="template.platforms"
        :items="choices('platform')"
        label="Platforms (none: all)"
        multiple
        :readonly="!session.may('prepare')"
      />
      <span class="muted nowrap">{{
        template.pattern.includes('{n')
          ? `next: ${number(naming?.next_numbers[template.name] ?? 1)}`
          : ''
      }}</span>
      <span v-if="session.may('prepare')" class="nowrap">
        <v-btn
          :icon="mdiArrowUp"
          size="x-small"
          variant="text"
          :disabled="place === 0"
          :aria-label="`Move ${template.name} up`"
          @click="move(place, place - 1)"
        />
        <v-btn
          :icon="mdiArrowDown"
          size="x-small"
          variant="text"
          :disabled="place === templates.length - 1"
          :aria-label="`Move ${template.name} down`"
          @click="move(place, place + 1)"
        />
        <v-btn
          :icon="mdiDeleteOutline"
          size="x-small"
          variant="text"
          :disabled="templates.length === 1"
          :aria-label="`Remove ${template.name}`"
          @click="templates.splice(place, 1)"
        />
      </span>
    </v-card>
    <ProblemAlert :error="failure" />
    <v-card v-if="shown && !failure" class="pa-4">
      <h2 class="mb-2">
        What these templates say of the fleet {{ changed ? '(not saved yet)' : '' }}
      </h2>
      <div class="row-gap mb-2">
        <span
          v-for="count in shown.counts"
          :key="count.key"
          :class="count.count ? `tone-${count.tone}` : 'muted'"
          ><strong>{{ number(count.count) }}</strong> {{ count.label }}</span
        >
      </div>
      <v-table v-if="shown.examples.length" density="compact" fixed-header height="260px">
        <thead>
          <tr>
            <th scope="col">Device</th>
            <th scope="col">Now</th>
            <th scope="col">Would be</th>
            <th scope="col">Remark</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="line in shown.examples" :key="String(line.device_id)">
            <td>
              <router-link :to="`/devices/${line.device_id}`">{{ line.subject }}</router-link>
            </td>
            <td class="muted">{{ line.before ?? '–' }}</td>
            <td>
              <strong>{{ line.after ?? '–' }}</strong>
            </td>
            <td :class="{ 'tone-bad': !line.after }">{{ line.note }}</td>
          </tr>
        </tbody>
      </v-table>
    </v-card>
    <v-card class="pa-4">
      <h2 class="mb-2">How to write a pattern</h2>
      <p>
        Text with fields in braces: <code class="mono">{site|upper|first 3}-{serial|last 6}</code>.
        Filters: upper, lower, ascii, letters, digits, first N, last N, pad N, or "text".
        <code class="mono">{~model}</code> may be shortened from the left when the name is too long;
        <code class="mono">{n|pad 4}</code> counts; <code class="mono">{check}</code> is a check
        character.
      </p>
      <p class="muted">Fields: {{ naming?.fields.join(', ') }}</p>
    </v-card>
  </div>
</template>

<style scoped>
.line {
  display: grid;
  grid-template-columns: minmax(130px, 200px) minmax(220px, 1fr) minmax(150px, 240px) auto auto;
  gap: 10px;
  align-items: center;
}
@media (max-width: 860px) {
  .line {
    grid-template-columns: 1fr;
  }
}
code {
  background: rgba(var(--v-theme-primary), 0.1);
  padding: 1px 5px;
  border-radius: 4px;
}
</style>
