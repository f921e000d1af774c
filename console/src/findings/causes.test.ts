import { flushPromises, mount } from '@vue/test-utils'
import { createPinia } from 'pinia'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { useSession } from '../people/session'
import { serve, stubs } from '../testing/serve'
import { causeWords, whereWords } from './causes'
import FindingsPage from './FindingsPage.vue'
import type { Cause } from '../api/client'

const missing: Cause = {
  id: 'f03f5e9055d0aa68',
  code: 'chain.incomplete',
  title: 'An intermediate certificate is missing',
  why: '',
  severity: 'fault',
  about: 'Skerry Outer Issuing',
  findings: 3,
  endpoints: 3,
  holdings: 0,
  acknowledged: 0,
  first_seen: '2026-11-20T10:00:00Z',
  remedy: 'Add it.',
}

describe('words', () => {
  it.each([
    ['what all say', { message: 'SSL 3.0 is accepted.' }, 'SSL 3.0 is accepted.'],
    ['what they have in common', {}, 'An intermediate certificate is missing: Skerry Outer Issuing.'],
    ['the code alone', { about: undefined }, 'An intermediate certificate is missing.'],
  ])('say %s', (_, change, want) => expect(causeWords({ ...missing, ...change })).toBe(want))
  it.each([
    [{}, '3 endpoints'],
    [{ endpoints: 1, holdings: 1, findings: 2 }, '1 endpoint, 1 holding'],
    [{ endpoints: 0, holdings: 2, findings: 9 }, '2 holdings, 9 findings'],
  ])('say where: %o', (change, want) => expect(whereWords({ ...missing, ...change })).toBe(want))
})

describe('FindingsPage', () => {
  beforeEach(() => vi.useFakeTimers({ toFake: ['setTimeout', 'clearTimeout'] }))
  afterEach(() => {
    vi.useRealTimers()
    vi.unstubAllGlobals()
  })
  const finding = { id: 'f7', endpoint_id: 4, endpoint: 'ferries:443', code: 'chain.incomplete', severity: 'fault' }
  const shown = async (answers: Record<string, unknown>) => {
    const asked = serve(answers)
    const pinia = createPinia()
    useSession(pinia).who = { name: 'pilot', role: 'auditor', through: 'session' }
    const card = { props: ['finding'], template: '<div>{{ finding.endpoint }}<slot /></div>' }
    const page = mount(FindingsPage, { global: { stubs: { ...stubs, FindingCard: card }, plugins: [pinia] } })
    await flushPromises()
    return { page, asked }
  }
  it('shows those of one owner and label, in both lists', async () => {
    const { page, asked } = await shown({ 'GET /api/v1/causes': { items: [missing] }, 'GET /api/v1/findings': {} })
    for (const [field, text] of [['owner', 'web crew'], ['label', 'team'], ['label', 'team=cranes']]) {
      await page.get(`[data-test=${field}]`).setValue(text)
      vi.advanceTimersByTime(250)
      await flushPromises()
    }
    expect(asked.map((one) => one.query.label)).toEqual([undefined, undefined, undefined, 'team=cranes'])
    await page.get('[data-test=open]').trigger('click')
    await flushPromises()
    expect(asked.at(-1)?.path).toBe('/api/v1/findings')
    expect(asked.at(-1)?.query).toMatchObject({ owner: 'web crew', label: 'team=cranes' })
  })
  it('shows where a cause is, and closes it again', async () => {
    const { page, asked } = await shown({
      'GET /api/v1/causes': { items: [missing] },
      'GET /api/v1/findings': { items: [{ ...finding, state: 'new', evidence: {} }] },
    })
    expect(page.get('[data-test=where]').text()).toBe('3 endpoints')
    await page.get('[data-test=open]').trigger('click')
    await flushPromises()
    expect(page.get('[data-test=finding]').text()).toContain('ferries:443')
    expect(asked[1]?.query).toEqual({ cause: missing.id, waived: 'no' })
    await page.get('[data-test=open]').trigger('click')
    expect(page.find('[data-test=finding]').exists()).toBe(false)
  })
  it('asks once for what was typed, and goes on where a page ends', async () => {
    const answers: Record<string, unknown> = { 'GET /api/v1/causes': { items: [missing], next: 'c2' } }
    const { page, asked } = await shown(answers)
    await page.get('[data-test=more]').trigger('click')
    await flushPromises()
    expect(asked[1]?.query).toEqual({ cursor: 'c2' })
    expect(page.findAll('[data-test=cause]')).toHaveLength(2)
    answers['GET /api/v1/causes'] = { items: [] }
    for (const text of ['f', 'fe', 'fer']) await page.get('[data-test=search]').setValue(text)
    vi.advanceTimersByTime(500)
    await flushPromises()
    expect(asked.slice(2).map((a) => a.query)).toEqual([{ q: 'fer' }])
    expect(page.get('[data-test=none]').text()).toBe('No findings.')
  })
})
