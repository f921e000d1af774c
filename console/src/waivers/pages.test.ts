import { flushPromises, mount } from '@vue/test-utils'
import { createPinia } from 'pinia'
import { afterEach, describe, expect, it, vi } from 'vitest'
import FindingActions from '../findings/FindingActions.vue'
import { useSession } from '../people/session'
import { serve } from '../testing/serve'
import WaiversPage from './WaiversPage.vue'
import type { Finding } from '../api/client'

const finding = {
  id: 'f7',
  endpoint_id: 4,
  code: 'time.expired',
  severity: 'fault',
  state: 'standing',
  message: 'It has expired.',
} as unknown as Finding
afterEach(() => vi.unstubAllGlobals())

function as(role: 'viewer' | 'auditor') {
  const pinia = createPinia()
  useSession(pinia).who = { name: 'pilot', role, through: 'session' }
  return { plugins: [pinia], stubs: { 'router-link': { template: '<a><slot /></a>' } } }
}

describe('FindingActions', () => {
  it('offers nothing to viewers', () => {
    const card = mount(FindingActions, { props: { finding }, global: as('viewer') })
    expect(card.findAll('button')).toHaveLength(0)
  })
  it('acknowledges with a note', async () => {
    const asked = serve({ 'PUT /api/v1/findings/f7/acknowledgement': finding })
    const card = mount(FindingActions, { props: { finding }, global: as('auditor') })
    await card.get('[data-test=acknowledge]').trigger('click')
    await card.get('input[data-test=note]').setValue('on Thursday')
    await card.get('form').trigger('submit')
    await flushPromises()
    expect(asked.map((a) => a.body)).toEqual(['{"note":"on Thursday"}'])
    expect(card.emitted('changed')).toHaveLength(1)
  })
  it('tells who has seen it, and takes that back', async () => {
    const asked = serve({ 'DELETE /api/v1/findings/f7/acknowledgement': finding })
    const seen = { ...finding, acknowledged: { by: 'pilot', at: '2026-11-20T10:00:00Z', note: 'known' } }
    const card = mount(FindingActions, { props: { finding: seen }, global: as('auditor') })
    expect(card.get('[data-test=seen]').text()).toBe('Seen by pilot on 2026-11-20. known')
    await card.get('[data-test=forget]').trigger('click')
    await flushPromises()
    expect(asked).toHaveLength(1)
  })
  it('waives what is of one endpoint, and tells why that did not work', async () => {
    const asked = serve({ 'POST /api/v1/waivers': { status: 422, detail: 'that day is over' } })
    const card = mount(FindingActions, { props: { finding }, global: as('auditor') })
    await card.get('[data-test=waive]').trigger('click')
    await card.get('input[data-test=reason]').setValue('renewed on Thursday')
    await card.get('form').trigger('submit')
    await flushPromises()
    expect(JSON.parse(asked[0]?.body ?? '')).toMatchObject({
      code: 'time.expired',
      endpoint_id: 4,
      reason: 'renewed on Thursday',
    })
    expect(card.get('[role=alert]').text()).toContain('that day is over')
  })
})

describe('WaiversPage', () => {
  const waiver = { id: 3, code: 'time.expired', about: 'tides:443', endpoint_id: 4, until: '2026-12-24', days: 0 }
  it('lists them, and takes one back', async () => {
    const answers: Record<string, unknown> = {
      'GET /api/v1/waivers': [waiver, { ...waiver, id: 4, about: undefined, endpoint_id: undefined, days: 40 }],
      'DELETE /api/v1/waivers/3': {},
    }
    serve(answers)
    const page = mount(WaiversPage, { global: as('auditor') })
    await flushPromises()
    const [first, second] = page.findAll('[data-test=waiver]')
    expect(first?.text()).toContain('today')
    expect(first?.find('.soon').exists()).toBe(true)
    expect(second?.text()).toContain('everything')
    answers['GET /api/v1/waivers'] = []
    await first?.get('[data-test=remove]').trigger('click')
    await flushPromises()
    expect(page.text()).toContain('Nothing is waived here.')
  })
})
