<script setup lang="ts">
import {
  mdiBookOpenPageVariantOutline,
  mdiAccountGroupOutline,
  mdiAccountKeyOutline,
  mdiAccountOutline,
  mdiBagPersonalOutline,
  mdiBoomGateOutline,
  mdiBroom,
  mdiCalendarCheckOutline,
  mdiCalendarClockOutline,
  mdiCardAccountDetailsOutline,
  mdiCellphoneLink,
  mdiClipboardListOutline,
  mdiDoorOpen,
  mdiLanConnect,
  mdiLogout,
  mdiMagnify,
  mdiMenu,
  mdiNotebookOutline,
  mdiPackageVariantClosed,
  mdiScaleBalance,
  mdiSelectGroup,
  mdiTagTextOutline,
  mdiThemeLightDark,
} from '@mdi/js'
import { computed, onMounted, onUnmounted, ref, useTemplateRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useDisplay, useTheme } from 'vuetify'

import { at } from './api/base'
import { api, got, onChange } from './api/client'
import HoldDialog from './shared/dialogs/HoldDialog.vue'
import PreviewDialog from './shared/dialogs/PreviewDialog.vue'
import TrailBar from './shared/dialogs/TrailBar.vue'
import { useSession } from './shared/actions/useSession'
import { useTrail } from './shared/actions/useTrail'

const pages = [
  ['/today', 'Today', mdiCalendarCheckOutline],
  ['/lots', 'Lots', mdiPackageVariantClosed],
  ['/orders', 'Orders', mdiClipboardListOutline],
  ['/devices', 'Devices', mdiCellphoneLink],
  ['/cohorts', 'Cohorts', mdiSelectGroup],
  ['/people', 'People', mdiAccountOutline],
  ['/groups', 'Groups', mdiAccountGroupOutline],
  ['/gate', 'Gate', mdiBoomGateOutline],
  ['/names', 'Names', mdiTagTextOutline],
  ['/arrivals', 'Arrivals', mdiDoorOpen],
  ['/kits', 'Kits', mdiBagPersonalOutline],
  ['/sources', 'Sources', mdiLanConnect],
  ['/levels', 'Levels', mdiScaleBalance],
  ['/ends', 'What ends', mdiCalendarClockOutline],
  ['/licences', 'Licences', mdiCardAccountDetailsOutline],
  ['/sweeps', 'Sweeps', mdiBroom],
  ['/journal', 'Journal', mdiNotebookOutline],
  ['/account', 'Account', mdiAccountKeyOutline],
] as const
const route = useRoute()
const router = useRouter()
const session = useSession()
const theme = useTheme()
const { mdAndUp } = useDisplay()
const drawer = ref<boolean | null>(null)
const query = ref('')
const box = useTemplateRef<{ focus: () => void }>('box')
const bare = computed(() => route.meta.open)

async function search() {
  const wanted = query.value.trim()
  if (!wanted) return
  const found = await got(
    api.GET('/api/v1/devices', { params: { query: { query: wanted, limit: 2 } } }),
  ).catch(() => null)
  const [device, another] = found?.items ?? []
  const names = [device?.name, device?.serial, device?.imei, device?.asset_tag]
  const isIt = names.some((one) => one?.toLowerCase() === wanted.toLowerCase())
  if (device && !another && isIt) await router.push(`/devices/${device.id}`)
  else await router.push({ path: '/devices', query: { query: wanted } })
}

function slash(event: KeyboardEvent) {
  const target = event.target as HTMLElement
  if (event.key === '/' && !['INPUT', 'TEXTAREA'].includes(target.tagName)) {
    event.preventDefault()
    box.value?.focus()
  }
}

function switchTheme() {
  const name = theme.global.current.value.dark ? 'light' : 'dark'
  theme.change(name)
  localStorage.setItem('theme', name)
}

async function leave() {
  await session.signOut()
  await router.push('/sign-in')
}

const trail = useTrail()
onChange((entry) => void trail.note(entry))
onMounted(() => window.addEventListener('keydown', slash))
onUnmounted(() => window.removeEventListener('keydown', slash))
</script>

<template>
  <v-app>
    <a v-if="!bare" href="#main" class="skip">Skip to the page</a>
    <template v-if="!bare">
      <v-app-bar flat border height="54">
        <v-btn
          v-if="!mdAndUp"
          :icon="mdiMenu"
          variant="text"
          aria-label="Navigation"
          @click="drawer = !drawer"
        />
        <router-link to="/today" class="brand" aria-label="Sortitor, Today">sortitor</router-link>
        <form role="search" class="search" @submit.prevent="search">
          <v-text-field
            ref="box"
            v-model="query"
            :prepend-inner-icon="mdiMagnify"
            label="Find a device"
            single-line
            placeholder="serial, last digits, IMEI, name, person"
            clearable
            autocomplete="off"
          >
            <template #append-inner><kbd class="muted" aria-hidden="true">/</kbd></template>
          </v-text-field>
        </form>
        <v-spacer />
        <router-link v-if="mdAndUp" to="/account" class="muted mr-2"
          >{{ session.me?.name }} · {{ session.me?.role }}</router-link
        >
        <v-btn
          :icon="mdiBookOpenPageVariantOutline"
          :href="at('/handbook/')"
          target="_blank"
          variant="text"
          size="small"
          aria-label="Handbook"
        />
        <v-btn
          :icon="mdiThemeLightDark"
          variant="text"
          size="small"
          aria-label="Light or dark"
          @click="switchTheme"
        />
        <v-btn :icon="mdiLogout" variant="text" size="small" aria-label="Sign out" @click="leave" />
      </v-app-bar>
      <v-navigation-drawer
        v-model="drawer"
        width="176"
        :permanent="mdAndUp"
        floating
        color="background"
      >
        <v-list nav density="compact" role="group" aria-label="Pages">
          <v-list-item
            v-for="[to, title, icon] in pages"
            :key="to"
            :to="to"
            :prepend-icon="icon"
            :title="title"
            color="primary"
            rounded="md"
          />
        </v-list>
      </v-navigation-drawer>
    </template>
    <v-main id="main" tabindex="-1">
      <div :class="bare ? '' : 'pa-4 page'"><router-view /></div>
    </v-main>
    <PreviewDialog />
    <HoldDialog />
    <TrailBar />
  </v-app>
</template>

<style scoped>
.brand {
  font-weight: 720;
  letter-spacing: -0.03em;
  font-size: 1.15rem;
  text-decoration: none;
  margin: 0 20px 0 18px;
}
.search {
  max-width: 440px;
  flex: 1 1 440px;
}
.search :deep(.v-field) {
  --v-input-control-height: 36px;
}
.page {
  max-width: 1500px;
}
kbd {
  border: 1px solid currentcolor;
  border-radius: 3px;
  padding: 0 5px;
  font-size: 0.72rem;
}
.skip {
  position: absolute;
  left: -999px;
  z-index: 3000;
  background: rgb(var(--v-theme-surface));
  padding: 8px;
}
.skip:focus {
  left: 8px;
  top: 8px;
}
</style>
