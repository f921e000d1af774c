import { flushPromises, mount } from '@vue/test-utils'
import { afterEach, expect, it, vi } from 'vitest'
import { serve, stubs } from '../testing/serve'
import HistoryList from './HistoryList.vue'

afterEach(() => vi.unstubAllGlobals())

it('tells what changed, and goes on to what is older', async () => {
  const entry = { at: '2026-11-20T10:00:00Z', verdict: 'faulty', appeared: [], gone: [], changes: [] }
  const answers: Record<string, unknown> = {
    'GET /api/v1/endpoints/4/history': {
      items: [{ ...entry, audit_id: 7, before: 'sound', changes: ['It answers.'], appeared: ['time.expired'] }],
      next: '5',
    },
  }
  const asked = serve(answers)
  const list = mount(HistoryList, { props: { id: 4 }, global: { stubs } })
  await flushPromises()
  const text = list.get('[data-test=history]').text()
  for (const words of ['audit 7', 'it was sound', 'It answers.', '+ time.expired']) expect(text).toContain(words)
  answers['GET /api/v1/endpoints/4/history'] = { items: [{ ...entry, audit_id: 5, first: true }] }
  await list.get('[data-test=older]').trigger('click')
  await flushPromises()
  expect(asked[1]?.query).toEqual({ cursor: '5' })
  expect(list.findAll('[data-test=history]').map((e) => e.text())[1]).toContain('Examined for the first time.')
  expect(list.find('[data-test=older]').exists()).toBe(false)
})

it('tells what is different now from an earlier audit', async () => {
  const entry = { at: '2026-11-20T10:00:00Z', verdict: 'faulty', appeared: [], gone: [], changes: [] }
  const asked = serve({
    'GET /api/v1/endpoints/4/history': { items: [{ ...entry, audit_id: 9 }, { ...entry, audit_id: 5, first: true }] },
    'GET /api/v1/endpoints/4/history/difference': { ...entry, audit_id: 9, before: 'sound', gone: ['time.expiring'] },
  })
  const list = mount(HistoryList, { props: { id: 4 }, global: { stubs } })
  await flushPromises()
  expect(list.findAll('[data-test=since]')).toHaveLength(1)
  await list.get('[data-test=since]').trigger('click')
  await flushPromises()
  expect(asked[1]?.query).toEqual({ from: '5' })
  const lines = list.findAll('[data-test=difference] p').map((p) => p.text())
  expect(lines).toEqual(['it was sound', '− time.expiring'])
})
