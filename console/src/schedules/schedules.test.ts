import { flushPromises, mount } from '@vue/test-utils'
import { createPinia } from 'pinia'
import { afterEach, describe, expect, it, vi } from 'vitest'
import { useSession } from '../people/session'
import { serve, stubs } from '../testing/serve'
import AuditsPage from './AuditsPage.vue'
import { settingsOf, textsOf } from './settings'
import type { Schedule } from '../api/client'

const nightly: Schedule = {
  id: 3,
  tag: 'a1',
  name: 'nightly',
  at: ['02:00', '14:00'],
  days: ['fri', 'mon'],
  zone: 'Europe/Oslo',
  quiet: '07:00-09:00',
  spread: 90,
  label: 'owner=cranes',
  words: 'at 02:00 and 14:00 on fri and mon',
  endpoints: 1,
  next: '2026-12-02T01:00:00Z',
}
afterEach(() => vi.unstubAllGlobals())

describe('settings', () => {
  it('come back from the form as they were, with days in their order', () => {
    const { id, tag, words, endpoints, next, ...settings } = nightly
    void [id, tag, words, endpoints, next]
    expect(settingsOf(textsOf(nightly, 'UTC'))).toEqual({ ...settings, days: ['mon', 'fri'] })
  })
  it.each([
    ['hours', { rhythm: 'every', every: 6 }, { every: 6 }],
    ['times, however parted', { rhythm: 'at', at: ' 02:00;14:00, 20:00' }, { at: ['02:00', '14:00', '20:00'] }],
    ['times alone', { rhythm: 'at', at: '02:00 14:00', every: 6 }, { at: ['02:00', '14:00'] }],
  ] as const)('are of a new schedule: %s', (_, texts, want) => {
    const form = { ...textsOf({}, 'Europe/Oslo'), name: ' a ', ...texts }
    expect(settingsOf(form)).toEqual({ name: 'a', zone: 'Europe/Oslo', ...want })
  })
  it('of a schedule without a zone are in UTC, wherever it is changed', () => {
    expect(textsOf({ id: 3, name: 'a', every: 6 }, 'Europe/Oslo').zone).toBe('UTC')
    expect(settingsOf(textsOf({ id: 3 }, ''), true).paused).toBe(true)
  })
})

describe('AuditsPage', () => {
  const shown = async (role: 'viewer' | 'auditor', schedules: Schedule[]) => {
    const audit = { id: 7, state: 'cancelled', endpoints: 1, schedule: 'nightly', created_at: '2026-12-01T01:00:00Z' }
    const pier = { name: 'pier', kind: 'work', host: 'mole', started: '2026-12-01T01:00:00Z', running: 3, visits: 50 }
    const answers = { 'GET /api/v1/schedules': schedules, 'GET /api/v1/audits': { items: [audit] },
      'GET /api/v1/workers': [pier] }
    const asked = serve({ ...answers, 'PUT /api/v1/schedules/3': nightly })
    const pinia = createPinia()
    useSession(pinia).who = { name: 'pilot', role, through: 'session' }
    const page = mount(AuditsPage, { global: { stubs: { ...stubs, ScheduleForm: true }, plugins: [pinia] } })
    await flushPromises()
    return { page, asked }
  }
  it('says that nothing is scheduled', async () => {
    const { page } = await shown('viewer', [])
    expect(page.get('[data-test=none]').text()).toContain('Nothing is scheduled')
    expect(page.get('[data-test=audit]').text()).toContain('the schedule nightly')
    expect(page.get('[data-test=worker]').text()).toMatch(/^pier\s*works\s*mole.*3 of 50$/)
    expect(page.find('[data-test=add]').exists()).toBe(false)
  })
  it('says when the next audit begins, or why there was none, and pauses', async () => {
    const skipped = { ...nightly, skipped: 'audit 6 was still under way', last: '2026-12-01T01:00:00Z' }
    const { page, asked } = await shown('auditor', [skipped, { ...nightly, id: 4, paused: true, next: undefined }])
    const [first, second] = page.findAll('[data-test=schedule]')
    expect(first?.get('[data-test=next]').text()).toBe('2026-12-02 01:00 UTC')
    expect(first?.text()).toContain('None began at 2026-12-01 01:00 UTC: audit 6')
    expect(second?.get('[data-test=next]').text()).toBe('paused')
    await first?.get('[data-test=pause]').trigger('click')
    await flushPromises()
    const put = asked.find((a) => a.method === 'PUT')
    expect(JSON.parse(put?.body ?? '')).toMatchObject({ name: 'nightly', at: ['02:00', '14:00'], paused: true })
  })
})
