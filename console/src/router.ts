import { createRouter, createWebHistory } from 'vue-router'

import { useSession } from './shared/useSession'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/today' },
    {
      path: '/sign-in',
      component: () => import('./pages/account/SignIn.vue'),
      meta: { title: 'Sign in', open: true },
    },
    {
      path: '/welcome/:code',
      component: () => import('./pages/welcome/Welcome.vue'),
      meta: { title: 'Welcome', open: true },
    },
    {
      path: '/today',
      component: () => import('./pages/today/Today.vue'),
      meta: { title: 'Today' },
    },
    { path: '/lots', component: () => import('./pages/lots/Lots.vue'), meta: { title: 'Lots' } },
    {
      path: '/lots/:id(\\d+)',
      component: () => import('./pages/lots/Lot.vue'),
      meta: { title: 'Lot' },
    },
    {
      path: '/orders',
      component: () => import('./pages/orders/Orders.vue'),
      meta: { title: 'Orders' },
    },
    {
      path: '/devices',
      component: () => import('./pages/devices/Devices.vue'),
      meta: { title: 'Devices' },
    },
    {
      path: '/devices/:id(\\d+)',
      component: () => import('./pages/devices/Device.vue'),
      meta: { title: 'Device' },
    },
    {
      path: '/cohorts',
      component: () => import('./pages/cohorts/Cohorts.vue'),
      meta: { title: 'Cohorts' },
    },
    {
      path: '/cohorts/:id(\\d+)',
      component: () => import('./pages/cohorts/Cohort.vue'),
      meta: { title: 'Cohort' },
    },
    {
      path: '/groups',
      component: () => import('./pages/people/Groups.vue'),
      meta: { title: 'Groups' },
    },
    {
      path: '/people',
      component: () => import('./pages/people/People.vue'),
      meta: { title: 'People' },
    },
    { path: '/gate', component: () => import('./pages/gate/Gate.vue'), meta: { title: 'Gate' } },
    {
      path: '/names',
      component: () => import('./pages/naming/Names.vue'),
      meta: { title: 'Names' },
    },
    {
      path: '/arrivals',
      component: () => import('./pages/arrivals/Arrivals.vue'),
      meta: { title: 'Arrivals' },
    },
    {
      path: '/licences',
      component: () => import('./pages/licences/Licences.vue'),
      meta: { title: 'Licences' },
    },
    {
      path: '/sweeps',
      component: () => import('./pages/sweeps/Sweeps.vue'),
      meta: { title: 'Sweeps' },
    },
    {
      path: '/journal',
      component: () => import('./pages/journal/Journal.vue'),
      meta: { title: 'Journal' },
    },
    {
      path: '/:rest(.*)*',
      component: () => import('./pages/today/Missing.vue'),
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
