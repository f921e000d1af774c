import { flushPromises, mount } from '@vue/test-utils'
import { createPinia } from 'pinia'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { serve, stubs } from '../testing/serve'
import EstatePage from './EstatePage.vue'

const day = 86_400_000
const fromNow = (days: number) => new Date(Date.now() + days * day + 60_000).toISOString()
const endpoints = [
  { id: 1, endpoint: 'cranes.tarnholm.example:443', verdict: 'faulty', not_after: fromNow(-2), issuer: 'Outer Issuing',
    codes: ['time.expired', 'chain.wrong-order'], labels: { about: 'expired' }, owner: 'crane crew' },
  { id: 2, endpoint: 'tides.tarnholm.example:443', verdict: 'sound', not_after: fromNow(40), issuer: 'Outer Issuing' },
  { id: 3, endpoint: 'drydock.tarnholm.example:443', verdict: '' },
]
const page = { items: endpoints, verdicts: { faulty: 1, sound: 1, '': 1 }, next: 'more' }
const shown = async () => {
  const wrapper = mount(EstatePage, { global: { stubs, plugins: [createPinia()] } })
  await flushPromises()
  return wrapper
}
beforeEach(() => vi.useFakeTimers({ toFake: ['setTimeout', 'clearTimeout'] }))
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

describe('EstatePage', () => {
  it('lists endpoints with verdict, days left, issuer and codes', async () => {
    serve({ 'GET /api/v1/endpoints': page })
    const rows = (await shown()).findAll('tbody tr').map((row) => row.text())
    expect(rows).toHaveLength(3)
    for (const part of ['faulty', 'cranes.tarnholm.example:443', 'expired', 'time.expired, chain.wrong-order'])
      expect(rows[0]).toContain(part)
    expect(rows[1]).toContain('40')
    expect(rows[2]).toContain('not yet judged')
    expect(rows[2]).toContain('–')
  })
  it.each([
    ['by verdict', '[data-test="filter-faulty"]', { verdict: 'faulty', sort: 'verdict' }],
    ['by another column', '[data-test="sort-not_after"]', { sort: 'not_after', desc: 'false' }],
    ['by the same column, the other way round', '[data-test="sort-verdict"]', { sort: 'verdict', desc: 'true' }],
  ])('asks the service anew: %s', async (_, button, query) => {
    const asked = serve({ 'GET /api/v1/endpoints': page })
    const estate = await shown()
    await estate.get(button).trigger('click')
    await flushPromises()
    expect(asked).toHaveLength(2)
    expect(asked[1]?.query).toMatchObject(query)
  })
  it('lists those of one owner, and all again', async () => {
    const asked = serve({ 'GET /api/v1/endpoints': page })
    const estate = await shown()
    expect(estate.find('[data-test="of-owner"]').exists()).toBe(false)
    await estate.get('[data-test="owner"]').trigger('click')
    await flushPromises()
    expect(asked[1]?.query.owner).toBe('crane crew')
    expect(estate.get('[data-test="of-owner"]').text()).toBe('of crane crew')
    await estate.getComponent('[data-test="of-owner"]').trigger('close')
    await flushPromises()
    expect(asked[2]?.query.owner).toBeUndefined()
  })
  it('searches once the typing has paused', async () => {
    const asked = serve({ 'GET /api/v1/endpoints': page })
    const estate = await shown()
    for (const text of ['t', 'ti', 'tides']) await estate.get('[data-test="search"]').setValue(text)
    expect(asked).toHaveLength(1)
    vi.advanceTimersByTime(250)
    await flushPromises()
    expect(asked).toHaveLength(2)
    expect(asked[1]?.query.q).toBe('tides')
  })
  it('shows the next page below the first', async () => {
    const asked = serve({ 'GET /api/v1/endpoints': page })
    const estate = await shown()
    await estate.get('[data-test="more"]').trigger('click')
    await flushPromises()
    expect(asked[1]?.query.cursor).toBe('more')
    expect(estate.findAll('tbody tr')).toHaveLength(6)
  })
  it.each([
    ['an empty estate', { items: [], verdicts: {} }, 'The estate is empty'],
    ['a filter that nothing passes', { items: [], verdicts: { sound: 4 } }, 'No endpoint matches'],
    ['a failure', { status: 503, detail: 'the database does not answer' }, 'the database does not answer'],
  ])('says what is the case with %s', async (_, answer, words) => {
    serve({ 'GET /api/v1/endpoints': answer })
    expect((await shown()).text()).toContain(words)
  })
})
