import { createRouter, createWebHistory } from 'vue-router'
import EstatePage from './estate/EstatePage.vue'
import { useSession } from './people/session'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'estate', component: EstatePage },
    {
      path: '/endpoints/:id(\\d+)',
      name: 'endpoint',
      component: () => import('./endpoint/EndpointPage.vue'),
      props: (to) => ({ id: Number(to.params.id) }),
    },
    { path: '/proposals', name: 'proposals', component: () => import('./proposals/ProposalsPage.vue') },
    {
      path: '/findings',
      name: 'findings',
      component: () => import('./findings/FindingsPage.vue'),
      props: ({ query: { owner, label } }) => ({ owner, label }),
    },
    { path: '/holdings', name: 'holdings', component: () => import('./holdings/HoldingsPage.vue') },
    {
      path: '/holdings/:id(\\d+)',
      name: 'holding',
      component: () => import('./holdings/HoldingPage.vue'),
      props: (to) => ({ id: Number(to.params.id) }),
    },
    { path: '/audits', name: 'audits', component: () => import('./schedules/AuditsPage.vue') },
    { path: '/expiry', name: 'expiry', component: () => import('./expiry/ExpiryPage.vue') },
    { path: '/policies', name: 'policies', component: () => import('./policies/PoliciesPage.vue') },
    { path: '/policies/:name', name: 'policy', component: () => import('./policies/PolicyPage.vue'), props: true },
    { path: '/waivers', name: 'waivers', component: () => import('./waivers/WaiversPage.vue') },
    { path: '/what-if', name: 'what-ifs', component: () => import('./what-ifs/WhatIfsPage.vue') },
    {
      path: '/what-if/:id(\\d+)',
      name: 'what-if',
      component: () => import('./what-ifs/WhatIfPage.vue'),
      props: (to) => ({ id: Number(to.params.id) }),
    },
    { path: '/workbench', name: 'workbench', component: () => import('./workbench/WorkbenchPage.vue') },
    { path: '/sign-in', name: 'sign-in', component: () => import('./people/SignInPage.vue'), meta: { open: true } },
    { path: '/set-up', name: 'set-up', component: () => import('./people/SetUpPage.vue'), meta: { open: true } },
    { path: '/account', name: 'account', component: () => import('./people/AccountPage.vue') },
    { path: '/people', name: 'people', component: () => import('./people/PeoplePage.vue') },
    { path: '/activity', name: 'activity', component: () => import('./people/ActivityPage.vue') },
    { path: '/:rest(.*)*', redirect: { name: 'estate' } },
  ],
})

router.beforeEach(async (to) => {
  const session = useSession()
  await session.load()
  return session.out && !to.meta.open ? { name: 'sign-in', query: { to: to.fullPath } } : true
})
