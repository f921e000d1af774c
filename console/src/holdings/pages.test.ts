import { flushPromises, mount } from '@vue/test-utils'
import { createPinia } from 'pinia'
import { afterEach, describe, expect, it, vi } from 'vitest'
import { serve, stubs } from '../testing/serve'
import HoldingPage from './HoldingPage.vue'
import HoldingsPage from './HoldingsPage.vue'

const quay = {
  id: 4,
  name: 'quay',
  verdict: 'faulty',
  files: 34,
  policy: 'internal',
  codes: ['key.exposed', 'pair.old-set'],
  sent_at: '2026-11-20T10:00:00Z',
  judged_at: '2026-11-20T10:00:05Z',
}
const finding = {
  id: 'f',
  code: 'key.exposed',
  severity: 'fault',
  state: 'new',
  first_seen: '2026-11-20T10:00:05Z',
  path: '/etc/ssl/ferry.key',
  message: 'Everyone on the machine can read the private key.',
  remedy: 'Make the file readable only for its owner.',
  why: 'Whoever reads the key can impersonate the service.',
  reference: 'RFC 5280',
  evidence: {},
}
const files = (...paths: string[]) => paths.map((path) => ({ path, verdict: 'sound', contents: ['certificate quay'] }))
const global = () => ({ stubs, plugins: [createPinia()] })
afterEach(() => vi.unstubAllGlobals())

describe('HoldingsPage', () => {
  it('lists machines with what is wrong', async () => {
    serve({ 'GET /api/v1/holdings': [quay] })
    const page = mount(HoldingsPage, { global: global() })
    await flushPromises()
    const row = page.get('tbody tr').text()
    for (const part of ['faulty', 'quay', '34', '2026-11-20 10:00 UTC', 'key.exposed, pair.old-set'])
      expect(row).toContain(part)
  })
  it('says how to send one when there is none', async () => {
    serve({ 'GET /api/v1/holdings': [] })
    const page = mount(HoldingsPage, { global: global() })
    await flushPromises()
    expect(page.text()).toContain('nurvik collect /etc')
  })
})

describe('HoldingPage of what was not judged', () => {
  it.each([
    ['failure', { failure: 'given up' }, 'could not be judged: given up'],
    ['waiting', { waiting: true }, 'not judged yet'],
  ])('tells a %s', async (mark, change, words) => {
    serve({
      'GET /api/v1/holdings/4': { holding: { ...quay, ...change }, findings: [] },
      'GET /api/v1/holdings/4/files': { items: [] },
    })
    const page = mount(HoldingPage, { props: { id: 4 }, global: global() })
    await flushPromises()
    expect(page.get(`[data-test=${mark}]`).text()).toContain(words)
  })
})

describe('HoldingPage', () => {
  const answers = {
    'GET /api/v1/holdings/4': { holding: quay, findings: [finding] },
    'GET /api/v1/holdings/4/files': { items: files('/etc/ssl/a.crt', '/etc/ssl/b.crt'), next: 'b' },
  }
  const shown = async (id = 4) => {
    const page = mount(HoldingPage, { props: { id }, global: global() })
    await flushPromises()
    return page
  }
  it('shows findings with their place, and files with what they hold', async () => {
    serve(answers)
    const page = await shown()
    expect(page.text()).toContain('34 files, sent 2026-11-20 10:00 UTC, judged 2026-11-20 10:00 UTC')
    expect(page.text()).toContain('by the policy internal')
    const card = page.get('[data-code="key.exposed"]').text()
    for (const part of ['fault', '/etc/ssl/ferry.key', 'new since 2026-11-20', 'Make the file readable'])
      expect(card).toContain(part)
    expect(page.get('[data-test="files"]').text()).toContain('/etc/ssl/a.crtcertificate quay')
  })
  it('shows more files, and only those of a verdict', async () => {
    const asked = serve(answers)
    const page = await shown()
    await page.get('[data-test="more-files"]').trigger('click')
    await flushPromises()
    expect(asked.at(-1)?.query).toMatchObject({ cursor: 'b' })
    expect(page.findAll('[data-test="files"] tr')).toHaveLength(4)
    await page.get('[data-test="files-at-risk"]').trigger('click')
    await flushPromises()
    expect(asked.at(-1)?.query).toMatchObject({ verdict: 'at-risk' })
    expect(page.findAll('[data-test="files"] tr')).toHaveLength(2)
    await page.get('[data-test="files-at-risk"]').trigger('click')
    await flushPromises()
    expect(asked.at(-1)?.query.verdict).toBeUndefined()
  })
  it('says when there is no such holding', async () => {
    serve({})
    expect((await shown(9)).text()).toContain('There is no such holding.')
  })
})
