import { flushPromises, mount } from '@vue/test-utils'
import { afterEach, describe, expect, it, vi } from 'vitest'
import { serve, stubs } from '../testing/serve'
import WhatIfPage from './WhatIfPage.vue'
import WhatIfsPage from './WhatIfsPage.vue'

const push = vi.fn()
vi.mock('vue-router', () => ({ useRouter: () => ({ push }) }))

const asked = {
  id: 7,
  state: 'finished',
  at: '2027-03-15T00:00:00Z',
  policy: 'strict',
  distrust: [],
  created_at: '2026-11-20T10:00:00Z',
}
const verdicts = { sound: 1, 'at-risk': 0, faulty: 0, unreachable: 0 }

const global = { stubs }
afterEach(() => vi.unstubAllGlobals())

describe('WhatIfsPage', () => {
  it('lists what was asked and asks anew', async () => {
    serve({
      'GET /api/v1/what-ifs': {
        items: [{ ...asked, answer: { endpoints: 9, verdicts, record: verdicts, appear: 4, go: 1 } }],
      },
      'GET /api/v1/policies': [{ name: 'strict', builtin: true }],
      'POST /api/v1/what-ifs': { ...asked, id: 8, state: 'judging' },
    })
    const page = mount(WhatIfsPage, { global })
    await flushPromises()
    expect(page.get('[data-test="what-if"]').text()).toContain('by the policy strict')
    await page.get('form').trigger('submit')
    expect(page.get('[data-test="failure"]').text()).toContain('Say what would be otherwise')
    await page.get('[data-test="policy"]').setValue('strict')
    await page.get('form').trigger('submit')
    await flushPromises()
    expect(push).toHaveBeenCalledWith({ name: 'what-if', params: { id: 8 } })
  })
})

describe('WhatIfPage', () => {
  it('shows what would appear and go at each endpoint', async () => {
    const change = {
      endpoint_id: 3,
      endpoint: 'tides.tarnholm.example:443',
      record: 'sound',
      verdict: 'faulty',
      appear: [
        { code: 'time.expired', severity: 'fault', subject: 'x', message: 'It expired.', remedy: 'Renew it.' },
      ],
      go: [
        { code: 'time.renewal-due', severity: 'note', subject: 'x' },
        { code: 'time.expired', severity: 'risk', subject: 'x' },
      ],
    }
    serve({
      'GET /api/v1/what-ifs/7': {
        ...asked,
        answer: { endpoints: 9, unseen: 2, verdicts, record: verdicts, appear: 1, go: 1 },
        changes: [change],
      },
    })
    const page = mount(WhatIfPage, { props: { id: 7 }, global })
    await flushPromises()
    expect(page.get('[data-test="sum"]').text()).toBe(
      'Findings that would appear: 1; that would go: 1. 1 of 9 endpoints would change.',
    )
    expect(page.get('[data-test="unseen"]').text()).toContain('never visited: 2')
    const row = page.get('[data-endpoint="tides.tarnholm.example:443"]').text()
    for (const part of ['sound', 'faulty', 'time.expired', '(now risk)', 'It expired.', 'time.renewal-due', 'note'])
      expect(row).toContain(part)
    expect(row.match(/time.expired/g)).toHaveLength(1)
  })
  it('says when there is no such what-if', async () => {
    serve({})
    const page = mount(WhatIfPage, { props: { id: 7 }, global })
    await flushPromises()
    expect(page.get('[role="alert"]').text()).toContain('There is no such what-if')
  })
})
