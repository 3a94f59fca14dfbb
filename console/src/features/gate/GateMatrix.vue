<script setup lang="ts">
import { mdiCheckBold, mdiDotsVertical, mdiPlus } from '@mdi/js'
import { computed, ref } from 'vue'

import type { Schemas } from '../../api/client'
import { useSession } from '../../shared/actions/useSession'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import {
  audience,
  type Facet,
  keyOf,
  type Line,
  lines,
  type Platform,
  type Policy,
  said,
  silent,
  valueOf,
} from './facets'
import { vReachable } from '../../shared/tables/reachable'

/** Policies side by side, facets down the page; what counts for somebody is marked through it. */
const { policies, effective, faults } = defineProps<{
  policies: Policy[]
  effective: Schemas['Effective'] | null
  /** JSON pointers into the gate that a remark is about. */
  faults: string[]
}>()
const emit = defineEmits<{
  edit: [place: number, line: Line]
  policy: [place: number]
  copy: [place: number]
  remove: [place: number]
  move: [from: number, to: number]
}>()

const session = useSession()
const { label, words } = useVocabulary()
const platforms = computed(() => words('platform').map((one) => one.value as Platform))
const asked = ref<string[]>([])
const shown = computed(() => lines(policies, platforms.value, asked.value))
const last = computed(() => policies.length - 1)
const sections = computed(() => {
  const found: { platform: Platform | null; title: string; lines: Line[] }[] = [
    { platform: null, title: 'All platforms', lines: [] },
    ...platforms.value.map((platform) => ({
      platform,
      title: label('platform', platform),
      lines: [],
    })),
  ]
  for (const line of shown.value)
    found.find((section) => section.platform === line.platform)?.lines.push(line)
  return found
})

const holds = (policy: Policy) => !effective || effective.policies.includes(policy.name)

function wins(policy: Policy, line: Line): boolean {
  return (effective?.statements ?? []).some(
    (one) =>
      one.facet === line.facet &&
      one.policy === policy.name &&
      (line.platform === null
        ? one.platform === null || !one.own
        : one.platform === line.platform && one.own),
  )
}

const POINTERS: Partial<Record<Facet, string>> = { door: 'open' }
function isOdd(place: number, line: Line): boolean {
  const of = line.platform ? `/platforms/${line.platform}` : ''
  return faults.includes(`/policies/${place}${of}/${POINTERS[line.facet] ?? line.facet}`)
}

function describe(policy: Policy, line: Line): string {
  const value = valueOf(policy, line)
  const whose = line.platform ? label('platform', line.platform) : 'all platforms'
  const words = value === null ? 'not stated' : said(line, value, label)
  const counts = wins(policy, line) ? ', which counts' : ''
  return `${policy.name}, ${whose}, ${label('facet', line.facet)}: ${words}${counts}`
}
</script>

<template>
  <div v-reachable="'Policies'" class="frame">
    <table class="matrix">
      <thead>
        <tr>
          <th scope="col" class="facet"><span class="visually-hidden">Question</span></th>
          <th
            v-for="(policy, place) in policies"
            :key="place"
            scope="col"
            :class="{ out: !holds(policy) }"
          >
            <div class="head">
              <div class="name">
                <span class="muted">{{ place + 1 }}.</span> {{ policy.name }}
              </div>
              <v-menu v-if="session.may('prepare')">
                <template #activator="{ props }">
                  <v-btn
                    v-bind="props"
                    :icon="mdiDotsVertical"
                    size="x-small"
                    variant="text"
                    :aria-label="`What to do with ${policy.name}`"
                  />
                </template>
                <v-list density="compact">
                  <v-list-item
                    :title="place === last ? 'Name and note' : 'Name, audience, note'"
                    @click="emit('policy', place)"
                  />
                  <v-list-item title="Copy" @click="emit('copy', place)" />
                  <template v-if="place !== last">
                    <v-list-item
                      title="Move to the left"
                      :disabled="place === 0"
                      @click="emit('move', place, place - 1)"
                    />
                    <v-list-item
                      title="Move to the right"
                      :disabled="place === last - 1"
                      @click="emit('move', place, place + 1)"
                    />
                    <v-list-item title="Remove" @click="emit('remove', place)" />
                  </template>
                </v-list>
              </v-menu>
            </div>
            <div class="whom muted" :title="audience(policy)">{{ audience(policy) }}</div>
          </th>
        </tr>
      </thead>
      <tbody v-for="section in sections" :key="section.title">
        <tr class="section">
          <th scope="rowgroup" :colspan="policies.length + 1">
            <span>{{ section.title }}</span>
            <v-menu v-if="session.may('prepare') && section.platform">
              <template #activator="{ props }">
                <v-btn
                  v-bind="props"
                  :icon="mdiPlus"
                  size="x-small"
                  variant="text"
                  density="compact"
                  :aria-label="`Another question for ${section.title}`"
                />
              </template>
              <v-list density="compact">
                <v-list-item
                  v-for="facet in silent(shown, section.platform)"
                  :key="facet"
                  :title="label('facet', facet)"
                  @click="asked.push(keyOf({ facet, platform: section.platform }))"
                />
              </v-list>
            </v-menu>
          </th>
        </tr>
        <tr v-for="line in section.lines" :key="keyOf(line)">
          <th scope="row" class="facet">{{ label('facet', line.facet) }}</th>
          <td
            v-for="(policy, place) in policies"
            :key="place"
            :class="{ out: !holds(policy), wins: wins(policy, line), odd: isOdd(place, line) }"
          >
            <component
              :is="session.may('prepare') ? 'button' : 'span'"
              type="button"
              class="cell"
              :aria-label="describe(policy, line)"
              @click="session.may('prepare') && emit('edit', place, line)"
            >
              <v-icon
                v-if="wins(policy, line)"
                :icon="mdiCheckBold"
                size="13"
                class="mr-1"
                aria-hidden="true"
              />
              <span v-if="valueOf(policy, line) !== null">{{
                said(line, valueOf(policy, line)!, label)
              }}</span>
              <span v-else class="nothing" aria-hidden="true">·</span>
            </component>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.frame {
  overflow-x: auto;
  border: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
  border-radius: 6px;
  background: rgb(var(--v-theme-surface));
}
.matrix {
  border-collapse: collapse;
  width: 100%;
}
.matrix th,
.matrix td {
  text-align: left;
  font-weight: 400;
  vertical-align: top;
  border-bottom: 1px solid rgba(var(--v-border-color), 0.08);
}
.matrix thead th {
  padding: 8px 10px;
  min-width: 132px;
  max-width: 220px;
  border-bottom-width: 2px;
}
.facet {
  position: sticky;
  left: 0;
  background: rgb(var(--v-theme-surface));
  padding: 4px 10px 4px 20px;
  width: 1%;
  min-width: 150px;
  white-space: nowrap;
}
.head {
  display: flex;
  justify-content: space-between;
  align-items: start;
  gap: 4px;
}
.name {
  font-weight: 620;
}
.whom {
  display: -webkit-box;
  -webkit-line-clamp: 2;
  line-clamp: 2;
  -webkit-box-orient: vertical;
  overflow: hidden;
  font-size: 0.8rem;
}
.section th {
  background: rgb(var(--v-theme-surface-light));
  padding: 3px 10px;
  font-weight: 620;
}
.section span {
  position: sticky;
  left: 10px;
  margin-right: 8px;
}
.cell {
  display: block;
  width: 100%;
  min-height: 26px;
  padding: 3px 10px;
  text-align: left;
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
}
button.cell {
  cursor: pointer;
}
button.cell:hover {
  background: rgba(var(--v-theme-primary), 0.1);
}
.nothing {
  color: rgba(var(--v-theme-on-surface), 0.4);
}
.wins .cell {
  background: rgba(var(--v-theme-primary), 0.14);
  font-weight: 600;
}
.odd .cell {
  text-decoration: underline wavy rgb(var(--v-theme-warning));
}
.out {
  opacity: 0.45;
}
</style>
