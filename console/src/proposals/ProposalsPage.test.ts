import { flushPromises, mount } from '@vue/test-utils'
import { createPinia } from 'pinia'
import { afterEach, describe, expect, it, vi } from 'vitest'
import { useSession } from '../people/session'
import { serve } from '../testing/serve'
import ProposalsPage from './ProposalsPage.vue'

const items = [
  { endpoint: 'winch.tarnholm.example:443', places: 5, sources: [
    { server: 'nginx', holding: 'quay', path: '/etc/nginx/winch.conf', line: 7 },
    { endpoint: 'cranes.tarnholm.example:443', certificate: 'aa' },
    { holding: 'quay', path: '/etc/ssl/winch.p12', certificate: 'bb' },
    { holding: 'quay', path: '/etc/ssl/copy.pem', line: 1, certificate: 'cc' },
  ] },
  { endpoint: 'jib.tarnholm.example:443', places: 1, sources: [{ endpoint: 'cranes.tarnholm.example:443' }] },
]
const shown = async (role: 'viewer' | 'auditor', answers: Record<string, unknown> = {}) => {
  const asked = serve({ 'GET /api/v1/proposals': { items }, ...answers })
  const pinia = createPinia()
  useSession(pinia).who = { name: 'pilot', role, through: 'session' }
  const page = mount(ProposalsPage, { global: { plugins: [pinia] } })
  await flushPromises()
  const sent = () => asked.filter((a) => a.method === 'POST').map((a) => JSON.parse(a.body) as unknown)
  return { page, asked, sent }
}
afterEach(() => vi.unstubAllGlobals())

describe('ProposalsPage', () => {
  it('says where each was met', async () => {
    const { page } = await shown('viewer')
    const [first] = page.findAll('[data-test=proposal]').map((row) => row.text())
    for (const part of ['the configuration of nginx, quay:/etc/nginx/winch.conf:7',
      'the certificate of cranes.tarnholm.example:443', 'a certificate in quay:/etc/ssl/winch.p12',
      'and at 2 more places'])
      expect(first).toContain(part)
    expect(first).not.toContain('copy.pem')
    expect(page.find('[data-test=choose]').exists()).toBe(false)
  })
  it('adds what was chosen, with owner and trust stores', async () => {
    const { page, sent, asked } = await shown('auditor', { 'POST /api/v1/proposals': { added: 2, dismissed: 0 } })
    expect(page.get('[data-test=accept]').attributes('disabled')).toBeDefined()
    await page.get('[data-test=all] input').setValue(true)
    await page.get('input[data-test=owner]').setValue(' crane crew ')
    await page.get('input[data-test=trust]').setValue('outer, inner')
    await page.get('form').trigger('submit')
    await flushPromises()
    expect(sent()).toEqual([{ accept: items.map((one) => one.endpoint), set: { owner: 'crane crew',
      trust: ['outer', 'inner'] } }])
    expect(page.get('[data-test=done]').text()).toBe('2 added, 0 dismissed.')
    expect(asked.filter((a) => a.method === 'GET' && a.path.endsWith('/proposals'))).toHaveLength(2)
  })
  it('dismisses one, and says why that did not work', async () => {
    const refused = { status: 422, detail: 'nothing was changed' }
    const { page, sent } = await shown('auditor', { 'POST /api/v1/proposals': refused })
    await page.findAll('[data-test=choose] input')[1]?.setValue(true)
    await page.get('[data-test=dismiss]').trigger('click')
    await flushPromises()
    expect(sent()).toEqual([{ dismiss: ['jib.tarnholm.example:443'] }])
    expect(page.get('[role=alert]').text()).toContain('nothing was changed')
  })
  it('says when there is nothing', async () => {
    const { page } = await shown('auditor', { 'GET /api/v1/proposals': { items: [] } })
    expect(page.find('[data-test=none]').exists()).toBe(true)
  })
})
