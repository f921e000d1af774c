import { flushPromises, mount } from '@vue/test-utils'
import { createPinia } from 'pinia'
import { afterEach, expect, it, vi } from 'vitest'
import { useSession } from '../people/session'
import { serve, stubs } from '../testing/serve'
import AuditBar from './AuditBar.vue'

afterEach(() => vi.unstubAllGlobals())

it('starts audits for whoever may, and for nobody else', async () => {
  serve({ 'GET /api/v1/audits': { items: [] } })
  const pinia = createPinia()
  const bar = mount(AuditBar, { global: { stubs, plugins: [pinia] } })
  await flushPromises()
  expect(bar.find('[data-test=start-audit]').exists()).toBe(false)
  for (const [role, may] of [
    ['viewer', false],
    ['auditor', true],
    ['administrator', true],
  ] as const) {
    useSession(pinia).who = { name: 'pilot', role, through: 'session' }
    await flushPromises()
    expect(bar.find('[data-test=start-audit]').exists()).toBe(may)
  }
})

it('lists what an audit could not examine, and says nothing where it could', async () => {
  const audit = {
    id: 7,
    state: 'finished',
    visits: 2,
    done: 2,
    finished_at: '2026-11-27T10:00:00Z',
    verdicts: { sound: 1, 'at-risk': 0, faulty: 0, unreachable: 0 },
  }
  const shown = async (more: object) => {
    serve({ 'GET /api/v1/audits': { items: [{ ...audit, ...more }] } })
    const bar = mount(AuditBar, { global: { stubs, plugins: [createPinia()] } })
    await flushPromises()
    return bar
  }
  const some = await shown({ unexamined: [{ target: 'tides.example:443', unexamined: 'no file descriptors' }] })
  expect(some.get('[data-test=unexamined]').text()).toContain('1 not examined')
  expect(some.get('[data-test=unexamined] li').text()).toBe('tides.example:443: no file descriptors')
  expect((await shown({})).find('[data-test=unexamined]').exists()).toBe(false)
})
