import { flushPromises, mount } from '@vue/test-utils'
import { createPinia } from 'pinia'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { createMemoryHistory, createRouter } from 'vue-router'
import { serve, stubs } from '../testing/serve'
import ExpiryPage from './ExpiryPage.vue'

const due = { kind: 'leaf', label: 'tides.tarnholm.example', names: [], issuer: 'Outer Issuing', sha256: 'aa',
  public: true,
  state: 'expires-soon', until: '2026-12-06T00:00:00Z', renew: '2026-10-01T00:00:00Z',
  places: [{ endpoint_id: 3, name: 'tides.tarnholm.example:443' }], more: 2 }
const days = [
  { day: '2026-12-06', kind: 'leaf', count: 1, state: 'expires-soon', labels: ['tides'], place: due.places[0] },
  { day: '2026-12-07', kind: 'leaf', count: 9, state: 'in-date', labels: ['a', 'b'] },
]
const answers = {
  'GET /api/v1/expiry': { items: [due], total: 101, states: { 'expires-soon': 1, expired: 4 },
    next: '100' },
  'GET /api/v1/expiry/timeline': { from: '2026-11-01', until: '2027-11-01', days, past: 1, later: 2,
    at: '2026-11-27T00:00:00Z' },
  'GET /api/v1/expiry/forecast': { minutes: 30, doubles_coming: '2027-02-18T00:00:00Z',
    months: [{ month: '2026-12', today: 9, coming: 12, today_hours: 4.5, coming_hours: 6 }] },
}
const blank = { template: '<p />' }
async function shown(path = '/expiry') {
  const router = createRouter({
    history: createMemoryHistory(),
    routes: [
      { path: '/expiry', name: 'expiry', component: blank },
      { path: '/endpoints/:id', name: 'endpoint', component: blank },
      { path: '/holdings/:id', name: 'holding', component: blank },
    ],
  })
  await router.push(path)
  const page = mount(ExpiryPage, {
    global: { stubs: { ...stubs, ForecastChart: true }, plugins: [createPinia(), router] },
  })
  await flushPromises()
  return { page, router }
}
async function wait() {
  vi.advanceTimersByTime(250)
  await flushPromises()
}
beforeEach(() => vi.useFakeTimers({ toFake: ['setTimeout', 'clearTimeout'] }))
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

describe('ExpiryPage', () => {
  it('lists what ends, draws it, and says what renewals cost', async () => {
    serve(answers)
    const { page } = await shown()
    const row = page.get('[data-test="dues"] tbody tr').text()
    for (const part of ['expires soon', '2026-12-06', '2026-10-01', 'tides.tarnholm.example', 'Outer Issuing',
      'and 2 more'])
      expect(row).toContain(part)
    expect(page.get('[data-test="filter-expired"]').text()).toContain('4')
    expect(page.findAll('[data-test="mark"]')).toHaveLength(2)
    expect(page.get('[data-test="mark"] title').text()).toContain('2026-12-06: tides')
    expect(page.get('[data-test="doubles"]').text()).toBe(
      'Renewals double: 2027-02-18 under the coming limits of public CAs, never under today’s lifetimes.')
    expect(page.get('.months').text()).toContain('6.0 h')
  })
  it('keeps its filters in the address bar, and begins with those that stand there', async () => {
    const asked = serve(answers)
    const { page, router } = await shown('/expiry?state=expired&from=2026-12-01&kind=nonsense')
    expect(asked[0]?.query).toMatchObject({ state: 'expired', from: '2026-12-01' })
    expect(asked[0]?.query.kind).toBeUndefined()
    await page.get('[data-test="search"]').setValue('tides')
    await page.get('[data-test="filter-expired"]').trigger('click')
    await wait()
    expect(router.currentRoute.value.query).toEqual({ q: 'tides', from: '2026-12-01' })
    expect(asked.at(-1)?.query).toMatchObject({ q: 'tides' })
    await page.get('[data-test="clear"]').trigger('click')
    await wait()
    expect(router.currentRoute.value.query).toEqual({})
  })
  it('leads from a lone mark to where it is, and lists the day of several', async () => {
    serve(answers)
    const { page, router } = await shown()
    await page.findAll('[data-test="mark"]')[1]?.trigger('click')
    await wait()
    expect(router.currentRoute.value.query).toEqual({ from: '2026-12-07', until: '2026-12-07', kind: 'leaf' })
    await page.findAll('[data-test="mark"]')[0]?.trigger('click')
    await flushPromises()
    expect(router.currentRoute.value.path).toBe('/endpoints/3')
  })
  it('asks for more, and tells a failure', async () => {
    const asked = serve(answers)
    const { page } = await shown()
    await page.get('[data-test="more"]').trigger('click')
    await flushPromises()
    expect(asked.at(-1)?.query.cursor).toBe('100')
    expect(page.findAll('[data-test="dues"] tbody tr')).toHaveLength(2)
    serve({ ...answers, 'GET /api/v1/expiry': { status: 422, detail: 'it cannot be asked so' } })
    await page.get('[data-test="kind"]').setValue('anchor')
    await wait()
    expect(page.get('[role="alert"]').text()).toContain('it cannot be asked so')
  })
})
