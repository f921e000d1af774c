import { flushPromises, mount } from '@vue/test-utils'
import { createPinia } from 'pinia'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { useSession } from '../people/session'
import { serve } from '../testing/serve'
import NetworkSearch from './NetworkSearch.vue'

const allowed = [{ network: '10.20.0.0/24', ports: [443, 993] }, { network: '10.21.0.0/24', ports: [443] }]
const search = { id: 7, state: 'searching', ranges: allowed.slice(0, 1), by: 'pilot', size: 512, done: 128, found: 3,
  others: 1, created_at: '2026-12-02T08:15:00Z' }
type Role = 'viewer' | 'auditor'
const shown = async (items: unknown[], answers: Record<string, unknown> = {}, role: Role = 'auditor') => {
  const all: Record<string, unknown> = { 'GET /api/v1/searches': { allowed, items }, ...answers }
  const asked = serve(all)
  const pinia = createPinia()
  useSession(pinia).who = { name: 'pilot', role, through: 'session' }
  const part = mount(NetworkSearch, { global: { plugins: [pinia] } })
  await flushPromises()
  return { part, asked, all }
}
beforeEach(() => vi.useFakeTimers())
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

describe('NetworkSearch', () => {
  it('is not there where no network may be searched', async () => {
    const { part } = await shown([], { 'GET /api/v1/searches': { allowed: [], items: [] } })
    expect(part.find('[data-test=search]').exists()).toBe(false)
  })
  it('lets viewers see and auditors search', async () => {
    expect((await shown([], {}, 'viewer')).part.find('form').exists()).toBe(false)
    const { part, asked } = await shown([], { 'POST /api/v1/searches': search })
    await part.get('form').trigger('submit')
    await flushPromises()
    expect(asked.filter((a) => a.method === 'POST').map((a) => a.body)).toEqual(['{}'])
  })
  it('says why a search was refused', async () => {
    const errors = [{ message: 'the network 10.0.0.0/8 may not be searched', location: 'body.networks' }]
    const { part } = await shown([], { 'POST /api/v1/searches': { status: 422, detail: 'no', errors } })
    await part.get('form').trigger('submit')
    await flushPromises()
    expect(part.text()).toContain('10.0.0.0/8 may not be searched')
  })
  it('follows a search until it has ended', async () => {
    const { part, all, asked } = await shown([search])
    expect(part.text()).toContain('10.20.0.0/24: 128 of 512 places looked at, 3 answered TLS')
    expect(part.get('[data-test=start]').attributes('disabled')).toBeDefined()
    await part.get('[data-test=cancel]').trigger('click')
    await flushPromises()
    expect(asked.some((a) => a.method === 'POST' && a.path.endsWith('/searches/7/cancel'))).toBe(true)
    all['GET /api/v1/searches'] = { allowed, items: [{ ...search, state: 'finished', done: 512 }] }
    await vi.advanceTimersByTimeAsync(2000)
    await flushPromises()
    expect(part.get('[data-test=last]').text()).toBe('Last search: 2026-12-02 08:15 UTC by pilot, 10.20.0.0/24: ' +
      '3 of 512 places answered TLS, 1 something else.')
    expect(part.emitted('ended')).toHaveLength(1)
    const looked = asked.length
    await vi.advanceTimersByTimeAsync(10_000)
    expect(asked).toHaveLength(looked)
  })
  it('says when one was cancelled, or failed', async () => {
    const cancelled = (await shown([{ ...search, state: 'cancelled' }])).part
    expect(cancelled.text()).toContain('cancelled after 128 of 512 places')
    const failed = (await shown([{ ...search, state: 'failed', failure: 'no more files' }])).part
    expect(failed.text()).toContain('failed: no more files')
  })
})
