import { createRouter, createWebHistory } from 'vue-router'
import EstatePage from './estate/EstatePage.vue'

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
    { path: '/holdings', name: 'holdings', component: () => import('./holdings/HoldingsPage.vue') },
    {
      path: '/holdings/:id(\\d+)',
      name: 'holding',
      component: () => import('./holdings/HoldingPage.vue'),
      props: (to) => ({ id: Number(to.params.id) }),
    },
    { path: '/expiry', name: 'expiry', component: () => import('./expiry/ExpiryPage.vue') },
    { path: '/policies', name: 'policies', component: () => import('./policies/PoliciesPage.vue') },
    { path: '/policies/:name', name: 'policy', component: () => import('./policies/PolicyPage.vue'), props: true },
    { path: '/what-if', name: 'what-ifs', component: () => import('./what-ifs/WhatIfsPage.vue') },
    {
      path: '/what-if/:id(\\d+)',
      name: 'what-if',
      component: () => import('./what-ifs/WhatIfPage.vue'),
      props: (to) => ({ id: Number(to.params.id) }),
    },
    { path: '/workbench', name: 'workbench', component: () => import('./workbench/WorkbenchPage.vue') },
    { path: '/:rest(.*)*', redirect: { name: 'estate' } },
  ],
})
