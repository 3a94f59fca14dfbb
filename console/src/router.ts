import { createRouter, createWebHistory } from 'vue-router'

import { BASE } from './api/base'
import { queries } from './api/queries'
import { deviceQuery } from './features/devices/deviceQuery'
import { useSession } from './shared/actions/useSession'

export const router = createRouter({
  history: createWebHistory(`${BASE}/`),
  routes: [
    { path: '/', redirect: '/today' },
    {
      path: '/sign-in',
      component: () => import('./features/account/SignIn.vue'),
      meta: { title: 'Sign in', open: true },
    },
    {
      path: '/welcome/:code?',
      component: () => import('./features/welcome/Welcome.vue'),
      meta: { title: 'Welcome', open: true },
    },
    {
      path: '/arrivals/:id(\\d+)',
      component: () => import('./features/arrivals/Arrival.vue'),
      meta: { title: 'Arrival' },
    },
    {
      path: '/passes/:id(\\d+)',
      component: () => import('./features/arrivals/Pass.vue'),
      meta: { title: 'Pass' },
    },
    {
      path: '/today',
      component: () => import('./features/today/Today.vue'),
      meta: { title: 'Today' },
    },
    { path: '/lots', component: () => import('./features/lots/Lots.vue'), meta: { title: 'Lots' } },
    {
      path: '/lots/:id(\\d+)',
      component: () => import('./features/lots/Lot.vue'),
      meta: { title: 'Lot' },
    },
    {
      path: '/ends',
      component: () => import('./features/ends/Ends.vue'),
      meta: { title: 'What ends' },
    },
    {
      path: '/orders',
      component: () => import('./features/orders/Orders.vue'),
      meta: { title: 'Orders' },
    },
    {
      path: '/devices',
      component: () => import('./features/devices/Devices.vue'),
      meta: { title: 'Devices' },
    },
    {
      path: '/devices/:id(\\d+)',
      component: () => import('./features/devices/Device.vue'),
      // Asked for while the page's script is on its way and the frame around it is drawn.
      beforeEnter: (to) => void queries.prefetchQuery(deviceQuery(Number(to.params.id))),
      meta: { title: 'Device' },
    },
    {
      path: '/cohorts',
      component: () => import('./features/cohorts/Cohorts.vue'),
      meta: { title: 'Cohorts' },
    },
    {
      path: '/cohorts/:id(\\d+)',
      component: () => import('./features/cohorts/Cohort.vue'),
      meta: { title: 'Cohort' },
    },
    {
      path: '/groups',
      component: () => import('./features/groups/Groups.vue'),
      meta: { title: 'Groups' },
    },
    {
      path: '/people',
      component: () => import('./features/people/People.vue'),
      meta: { title: 'People' },
    },
    { path: '/gate', component: () => import('./features/gate/Gate.vue'), meta: { title: 'Gate' } },
    {
      path: '/names',
      component: () => import('./features/naming/Names.vue'),
      meta: { title: 'Names' },
    },
    {
      path: '/arrivals',
      component: () => import('./features/arrivals/Arrivals.vue'),
      meta: { title: 'Arrivals' },
    },
    {
      path: '/sources',
      component: () => import('./features/sources/Sources.vue'),
      meta: { title: 'Sources' },
    },
    {
      path: '/sources/:id(\\d+)',
      component: () => import('./features/sources/Source.vue'),
      meta: { title: 'Source' },
    },
    {
      path: '/levels',
      component: () => import('./features/levels/Levels.vue'),
      meta: { title: 'Levels' },
    },
    {
      path: '/licences',
      component: () => import('./features/licences/Licences.vue'),
      meta: { title: 'Licences' },
    },
    {
      path: '/licences/report',
      component: () => import('./features/licences/Report.vue'),
      meta: { title: 'Licences of the month' },
    },
    {
      path: '/licences/:id(\\d+)',
      component: () => import('./features/licences/Pool.vue'),
      meta: { title: 'Licence pool' },
    },
    {
      path: '/kits',
      component: () => import('./features/kits/Kits.vue'),
      meta: { title: 'Kits' },
    },
    {
      path: '/items/:id(\\d+)',
      component: () => import('./features/kits/Item.vue'),
      meta: { title: 'Item' },
    },
    {
      path: '/sweeps',
      component: () => import('./features/sweeps/Sweeps.vue'),
      meta: { title: 'Sweeps' },
    },
    {
      path: '/account',
      component: () => import('./features/account/Account.vue'),
      meta: { title: 'Account' },
    },
    {
      path: '/journal',
      component: () => import('./features/journal/Journal.vue'),
      meta: { title: 'Journal' },
    },
    {
      path: '/:rest(.*)*',
      component: () => import('./features/today/Missing.vue'),
      meta: { title: 'Not found' },
    },
  ],
})

router.beforeEach(async (to) => {
  document.title = `${String(to.meta.title)} · Sortitor`
  if (to.meta.open) return true
  const session = useSession()
  await session.recall()
  return session.me ? true : { path: '/sign-in', query: { then: to.fullPath } }
})
